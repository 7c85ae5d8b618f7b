//! Job sheets: which clip, shaped how, goes to which slots.

mod deal;
pub mod matching;
mod replace;
pub mod start;
mod voice;

pub use deal::{Dealt, Placement};
pub use replace::{Prompts, Replace};

use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::{OddLine, OddText};
use crate::root::Roots;
use crate::sheet::{Because, Fault, OneOrMany, Pairs, Sheet};
use crate::target::Target;
use deft_needle_audio::edit::Request;
use serde::{Deserialize, Deserializer};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use toml::Spanned;

/// A job sheet.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Job {
    /// What it is called; its file's stem by default.
    #[serde(default)]
    pub name: String,
    /// The target's sheet: a path beside this one, or the name of one that ships.
    pub target: PathBuf,
    /// The target's main root.
    root: Option<PathBuf>,
    /// All roots, by their names in the target's sheet.
    #[serde(default)]
    roots: BTreeMap<String, PathBuf>,
    /// A folder that the target prefers over its stock; `{…}` are values.
    overlay: Option<String>,
    /// An archive of additions that the target reads, in place of the files themselves.
    archive: Option<String>,
    /// Values for templates.
    #[serde(default)]
    pub values: toml::Table,
    /// Options for all replacements.
    #[serde(default)]
    defaults: Pairs,
    /// An outside command that speaks lines of prompt lists.
    pub voice: Option<Voice>,
    /// What a pack says of itself.
    #[serde(default)]
    pub pack: PackFacts,
    /// The replacements.
    #[serde(default, rename = "replace")]
    pub replaces: Vec<Spanned<Replace>>,
    #[serde(skip)]
    origin: Origin,
}

/// Where a job sheet was read from.
#[derive(Debug, Clone, Default)]
struct Origin {
    path: PathBuf,
    text: String,
}

/// An outside command that speaks.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Voice {
    /// The program and its words, with `{text}` and `{out}`.
    pub command: Vec<String>,
    /// How many seconds a line may take.
    #[serde(default = "usual_seconds")]
    pub seconds: u64,
}

fn usual_seconds() -> u64 {
    60
}

/// What a pack says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackFacts {
    /// Its version.
    #[serde(default = "first_version", deserialize_with = "version")]
    pub version: String,
    /// Who made it.
    #[serde(default)]
    pub author: String,
    /// What it is, in a sentence.
    #[serde(default)]
    pub description: String,
    /// Whose sounds they are, a line each.
    #[serde(default)]
    pub credits: OneOrMany<String>,
    /// Under which licence.
    #[serde(default)]
    pub licence: String,
    /// A picture of it, beside the job sheet.
    pub icon: Option<PathBuf>,
}

/// How the names of jobs end that come from packs.
pub const OF_PACK: &str = " (pack)";

/// A version as a text, or as its numbers: `[0, 0, 1]`.
fn version<'de, D: Deserializer<'de>>(deserializer: D) -> std::result::Result<String, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Either {
        Text(String),
        Numbers(Vec<u64>),
    }
    Ok(match Either::deserialize(deserializer)? {
        Either::Text(text) => text,
        Either::Numbers(numbers) => {
            numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(".")
        }
    })
}

fn first_version() -> String {
    "1.0.0".to_owned()
}

/// Where the files go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// Into the slots themselves.
    Slots,
    /// Into a mirrored tree in this folder.
    Overlay(PathBuf),
    /// Into one archive, this file.
    Archive(PathBuf),
}

impl Job {
    /// A job from a file.
    ///
    /// # Errors
    /// [`Error::Sheet`] at the place of what is wrong, [`Error::Read`].
    pub fn load(path: &Path) -> Result<Self> {
        let no_job = |odd| Error::from(Fault::whole(path, odd));
        if path.is_dir() {
            return Err(no_job(OddLine::Folder));
        }
        let bytes = read_input(path, limits::SHEET).map_err(Error::read(path))?;
        let text = String::from_utf8(bytes).map_err(|_| no_job(OddLine::Binary))?;
        if !Self::is_one(&text) && Sheet::parse(&text, path).is_ok() {
            return Err(no_job(OddLine::Sheet));
        }
        Self::parse(&text, path)
    }

    /// A job from its text.
    ///
    /// # Errors
    /// [`Error::Sheet`] at the place of what is wrong.
    pub fn parse(text: &str, path: &Path) -> Result<Self> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let mut job: Self = toml::from_str(text).map_err(|e| Fault::of_toml(path, text, &e))?;
        if job.name.is_empty() {
            job.name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        }
        job.origin = Origin { path: path.to_owned(), text: text.to_owned() };
        job.validate()?;
        Ok(job)
    }

    /// Whether a sheet is a job's, and not a target's.
    pub fn is_one(text: &str) -> bool {
        let table: std::result::Result<toml::Table, _> = text.parse();
        match table {
            Ok(table) => table.contains_key("target") || table.contains_key("replace"),
            // Even where it is broken, it should be told as what it is.
            Err(_) => text.lines().any(|line| {
                let line = line.trim_start();
                line.starts_with("[[replace]]") || line.starts_with("target")
            }),
        }
    }

    /// What its files are called among the layers of a slot; a single swap has no name.
    pub fn layer(&self) -> Option<&str> {
        Some(self.name.as_str()).filter(|name| !name.is_empty())
    }

    /// The file that it came from.
    pub fn path(&self) -> &Path {
        &self.origin.path
    }

    /// The folder that its paths are relative to.
    pub fn folder(&self) -> &Path {
        match self.origin.path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        }
    }

    /// The job of a single swap: it has no name, and no sheet.
    pub(crate) fn single() -> Self {
        Self {
            name: String::new(),
            ..Self::of_pack("", toml::Table::new(), PackFacts::default(), None, Path::new(""))
        }
    }

    /// A job that a pack brings: it has no replacements of its own.
    pub(crate) fn of_pack(
        name: &str,
        values: toml::Table,
        pack: PackFacts,
        place: Option<Place>,
        path: &Path,
    ) -> Self {
        let (overlay, archive) = match place {
            Some(Place::Overlay(path)) => (Some(path), None),
            Some(Place::Archive(path)) => (None, Some(path)),
            Some(Place::Slots) | None => (None, None),
        };
        // It is filled in already: braces in it are no template's.
        let plain = |path: PathBuf| path.to_string_lossy().replace('{', "{{").replace('}', "}}");
        Self {
            // A stranger's pack must not take a job of the user's out that has the same name.
            name: format!("{name}{OF_PACK}"),
            target: PathBuf::new(),
            root: None,
            roots: BTreeMap::new(),
            overlay: overlay.map(plain),
            archive: archive.map(plain),
            values,
            defaults: Pairs::default(),
            voice: None,
            pack,
            replaces: Vec::new(),
            origin: Origin { path: path.to_owned(), text: String::new() },
        }
    }

    /// A path of the sheet's, with `/` or `\\` between its folders.
    pub(crate) fn beside(&self, path: &Path) -> PathBuf {
        let whole = self.folder().join(path);
        let text = path.to_string_lossy();
        match whole.exists() || !text.contains('\\') {
            true => whole,
            false => self.folder().join(text.replace('\\', "/")),
        }
    }

    /// A fault at one of its replacements.
    pub(crate) fn fault(&self, replace: &Spanned<Replace>, because: impl Into<Because>) -> Fault {
        let span = replace.span();
        // The first line says where; a whole paragraph would be marked otherwise.
        let end = self.origin.text[span.clone()].find('\n').map_or(span.end, |n| span.start + n);
        Fault::at(&self.origin.path, &self.origin.text, &(span.start..end), because)
    }

    fn whole(&self, odd: impl Into<OddText>) -> Error {
        Fault::whole(&self.origin.path, odd.into()).into()
    }

    fn validate(&self) -> Result<()> {
        let odd = |text: &str| text.chars().any(char::is_control);
        let roots = self.roots.values().chain(&self.root);
        let mut paths = roots.chain([&self.target]).map(|path| path.to_string_lossy());
        if paths.any(|path| odd(&path)) {
            return Err(self.whole(OddLine::Control));
        }
        if self.root.is_some() && !self.roots.is_empty() {
            return Err(self.whole(OddLine::BothRoots));
        }
        if self.overlay.is_some() && self.archive.is_some() {
            return Err(self.whole(OddLine::BothPlaces));
        }
        if odd(&self.name) || self.name.trim().is_empty() || self.name.ends_with(OF_PACK) {
            return Err(self.whole(OddLine::Name));
        }
        for replace in &self.replaces {
            let wrong = replace.get_ref().validate();
            wrong.map_err(|odd| self.fault(replace, odd))?;
        }
        Ok(())
    }

    /// The target's sheet.
    ///
    /// # Errors
    /// As [`Sheet::find`].
    pub fn sheet(&self) -> Result<Sheet> {
        let beside = self.beside(&self.target);
        match beside.exists() {
            true => Sheet::load(&beside),
            false => Sheet::find(&self.target),
        }
    }

    /// Where the target's roots are; `named` and `others` win over the job sheet.
    ///
    /// # Errors
    /// A root that the target's sheet does not name.
    pub fn roots(
        &self,
        sheet: &Sheet,
        named: Option<&Path>,
        others: Option<&BTreeMap<String, PathBuf>>,
    ) -> Result<Roots> {
        let absolute = |path: PathBuf| std::path::absolute(&path).map_err(Error::read(&path));
        let main_name = sheet.roots.first();
        let typed_main = main_name.and_then(|name| others?.get(name));
        let main = named.or(typed_main.map(PathBuf::as_path)).map(Path::to_owned).or_else(|| {
            let of_roots = main_name.and_then(|name| self.roots.get(name));
            let alone = self.roots.values().next().filter(|_| main_name.is_none());
            let found = self.root.as_ref().or(of_roots).or(alone)?;
            Some(self.beside(found))
        });
        let mut roots = Roots { main: main.map(absolute).transpose()?, others: BTreeMap::new() };
        let typed = others.into_iter().flatten();
        let own = self.roots.iter().map(|(name, path)| (name, self.beside(path)));
        for (name, path) in own.chain(typed.map(|(name, path)| (name, path.clone()))) {
            if !sheet.roots.is_empty() && !sheet.roots.contains(name) {
                let odd = OddLine::Root(sheet.name.clone(), name.clone(), sheet.roots.clone());
                return Err(self.whole(odd));
            }
            if Some(name) != main_name {
                roots.others.insert(name.clone(), absolute(path)?);
            }
        }
        Ok(roots)
    }

    /// The target, with its lists and roots.
    ///
    /// # Errors
    /// As [`Target::new`], and those of [`Job::roots`].
    pub fn target(
        &self,
        named: Option<&Path>,
        others: Option<&BTreeMap<String, PathBuf>>,
    ) -> Result<Target> {
        let sheet = self.sheet()?;
        let roots = self.roots(&sheet, named, others)?;
        Target::new(sheet, roots)
    }

    /// Values as templates know them.
    pub fn names(&self) -> crate::template::Names {
        let title = self.title();
        let mut names = crate::template::Names::of(&format!("{title}\0{}", self.pack.author));
        names = names.with(&crate::template::values(&self.values));
        names.set("job", title);
        names
    }

    /// Its name, without what tells that it came as a pack.
    pub fn title(&self) -> &str {
        self.name.strip_suffix(OF_PACK).unwrap_or(&self.name)
    }

    /// Where its files go.
    ///
    /// # Errors
    /// A template that names what is not known; a target's overlay that no main root is at hand for.
    pub fn place(&self, target: &Target, roots: &Roots) -> Result<Place> {
        let names = self.names();
        let filled = |text: &str| {
            let text = names.text(text).map_err(|odd| self.whole(odd))?;
            let path = self.folder().join(text.replace('\\', "/"));
            std::path::absolute(&path).map_err(Error::read(&path))
        };
        let target_overlay = || {
            let (Some(within), Some(root)) = (&target.sheet.overlay, &roots.main) else {
                return Err(Fault::whole(target.sheet.path(), OddLine::NoOverlay).into());
            };
            let within = names.text(&within.0);
            let within = within.map_err(|odd| self.whole(odd))?;
            Ok(Place::Overlay(crate::tree::slot_path(root, &within)?))
        };
        match (&self.overlay, &self.archive) {
            (Some(overlay), _) if overlay == "target" => target_overlay(),
            (Some(overlay), _) => filled(overlay).map(Place::Overlay),
            (None, Some(archive)) => filled(archive).map(Place::Archive),
            // Where stock has no places under its names, the target's overlay is the one place for them.
            (None, None) if !target.slots.stock_elsewhere().is_empty() => target_overlay(),
            (None, None) => Ok(Place::Slots),
        }
    }

    /// The options of one replacement: those of all, then its own.
    ///
    /// # Errors
    /// A value that is wrong together with others.
    pub fn request(&self, replace: &Spanned<Replace>) -> Result<Request> {
        let own = replace.get_ref().pairs();
        let pairs = self.defaults.iter().chain(own.iter());
        let read = Request::read(pairs);
        let mut request = read.map_err(|invalid| self.fault(replace, invalid))?;
        request.beside(self.folder());
        Ok(request)
    }
}
