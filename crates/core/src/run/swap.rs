//! A single swap: a job of one line, whose rule is read off the stock where no sheet tells it.

use super::stock::{find_stock, no_such_slot, refuse_new_folder};
use super::{Ask, Run};
use crate::disk::{Disk, RealDisk};
use crate::error::Result;
use crate::job::{Dealt, Job, Placement};
use crate::learn::mark_of;
use crate::ledger::Ledger;
use crate::ledger::state::State;
use crate::refusal::OddPath;
use crate::root::Roots;
use crate::root::{Root, absolute, key_of, look};
use crate::sheet::Method;
use crate::sheet::{Accepted, Links, New, OneOrMany, Rule, Sheet};
use crate::stock::Member;
use crate::target::Target;
use crate::tree::{links_below, names_in};
use deft_needle_audio::Clip;
use deft_needle_audio::edit::Request;
use deft_needle_audio::read::Input;
use deft_needle_audio::spec::{Choice, Container, Demand, Encoding, Format, Spec};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// What is asked.
pub struct Swap<'a> {
    /// The clip.
    pub clip: Input,
    /// The file to replace, as it was typed.
    pub slot: &'a Path,
    /// The root.
    pub root: Root,
    /// The target, where its sheet was named.
    pub target: Option<Target>,
    /// What is done to the clip, and what the file must be.
    pub request: Request,
    /// What a model file asks.
    pub like: Option<Demand>,
    /// How the file is made.
    pub making: Method,
    /// Whether a file may be put where none was.
    pub new: bool,
    /// Whether its name may say something else than it holds.
    pub name_anyway: bool,
    /// What happens to the slot where it is a link.
    pub link: Option<Links>,
    /// Whether the sheet's entries are made, and its caches cleared.
    pub entries: bool,
    /// Whether outside commands may run.
    pub allow_commands: bool,
}

impl Run {
    /// The job of one line. A change that was interrupted earlier is dealt with first, on `disk`; without
    /// one nothing is changed at all.
    ///
    /// # Errors
    /// [`Error::Refused`] where the slot does not exist (naming near ones), or nothing tells what its file
    /// must be; those of the ledger and of reading the stock.
    pub fn swap(swap: Swap<'_>, disk: Option<&dyn Disk>) -> Result<Self> {
        let recovered = match disk {
            Some(disk) => Ledger::open(&swap.root, disk)?.recovered().cloned(),
            None => None,
        };
        let real = RealDisk::default();
        let disk = disk.unwrap_or(&real);
        let state = Ledger::peek(&swap.root)?;
        let slot = key_of(&swap.root.path, swap.slot, disk)?;
        let target = match swap.target {
            Some(target) => target,
            None => swap.alone(&state, slot.within(), disk)?,
        };
        let placement = Placement {
            slot: slot.within().to_owned(),
            named: swap.clip.name().to_string_lossy().into_owned(),
            clip: swap.clip,
            request: swap.request,
            like: swap.like,
            making: swap.making,
            new: swap.new,
            name_anyway: swap.name_anyway,
            link: swap.link,
            values: Default::default(),
        };
        let dealt = Dealt { placements: vec![placement], ..Dealt::default() };
        let ask = Ask {
            root: Some(&swap.root.path),
            others: Some(&swap.root.others),
            ledger: Some(&swap.root.ledger),
            adopt: swap.root.adopt,
            allow_commands: swap.allow_commands,
        };
        let mut run = Self::of_parts(Job::single(), target, dealt, ask)?;
        run.root = Some(swap.root);
        run.entries = swap.entries;
        run.recovered = recovered;
        Ok(run)
    }
}

impl Swap<'_> {
    /// The target of a slot that no sheet covers: its own stock, and the names around it.
    fn alone(&self, state: &State, slot: &str, disk: &dyn Disk) -> Result<Target> {
        let place = look(&self.root.path, slot, disk)?;
        let key = state.key(&self.root.path, None, slot, disk)?;
        let (stock, _) = find_stock(&self.root, state, &key, &place.path)?;
        let is_ours = state.slots.get(&key).is_some_and(|known| known.top().is_some());
        if stock.is_none() && !self.new && !is_ours {
            return Err(no_such_slot(self.slot, &place.path));
        }
        if stock.is_none() && !is_ours {
            refuse_new_folder(self.slot, &place.path)?;
        }
        let mut rule = self.rule(stock.as_deref(), &place.path)?;
        let mut roots = Roots::main(Some(&self.root.path));
        roots.others.clone_from(&self.root.others);
        let folder = slot.rsplit_once('/').map_or("", |(folder, _)| folder);
        let beside = place.path.parent().map_or_else(Vec::new, names_in);
        if self.new && self.making == Method::Fit && !self.name_anyway {
            rule.extensions = Some(extensions(&rule, slot, &beside));
        }
        let within = |name: String| match folder {
            "" => name,
            folder => format!("{folder}/{name}"),
        };
        // Other kinds of file may share a sound's stem, as companions do. And what the ledger knows is not
        // new, though it may have vanished.
        let extension = |name: &str| {
            Path::new(name).extension().unwrap_or_default().to_string_lossy().to_lowercase()
        };
        let own = extension(slot);
        let sound = |name: &String| {
            let theirs = extension(name);
            theirs == own || Container::from_extension(&theirs).is_some()
        };
        let names = beside.into_iter().filter(sound).map(within);
        let names = names.chain(is_ours.then(|| slot.to_owned()));
        let name = self.root.path.file_name().unwrap_or_default().to_string_lossy();
        let mut target = Target::of_names(Sheet::of_rule(&name, rule), roots, names);
        target.slots.add_links(links_below(&self.root.path));
        Ok(target)
    }

    /// What the slot's own stock asks of its replacement.
    fn rule(&self, stock: Option<&Path>, path: &Path) -> Result<Rule> {
        let rule = match &self.making {
            Method::AsIs | Method::Encoder(_) => closed(stock)?,
            Method::Fit => {
                let demand = match (&self.like, stock) {
                    (Some(like), _) => like.clone(),
                    (None, _) if self.request.spec.is_some() => Spec::ANY.into(),
                    (None, Some(stock)) => Demand::like(Clip::open(stock)?.facts()),
                    (None, None) => demand_of_neighbours(path)?,
                };
                let asked = Accepted::Sound(demand.specs.clone());
                Rule { like: Some(demand), ..Rule::of_all(asked) }
            }
        };
        Ok(Rule { new: if self.new { New::Any } else { New::Never }, ..rule })
    }
}

/// Extensions that a new file may have: those of what it holds, those of the files beside it, and any that
/// no format is known by.
fn extensions(rule: &Rule, slot: &str, beside: &[String]) -> Vec<String> {
    let mut all = Rule { extensions: None, ..rule.clone() }.extensions();
    let file = slot.rsplit('/').next().unwrap_or(slot);
    if all.is_empty() || !file.contains('.') {
        return Vec::new();
    }
    let of = |name: &str| name.rsplit_once('.').map(|(_, extension)| extension.to_lowercase());
    // Where all others have one extension, a new file has it, too.
    let theirs: BTreeSet<Option<String>> = beside.iter().map(|name| of(name)).collect();
    if let (Some(Some(only)), 1, 2..) = (theirs.first(), theirs.len(), beside.len()) {
        return vec![only.clone()];
    }
    let own = of(slot).filter(|extension| Container::from_extension(extension).is_none());
    all.extend(beside.iter().filter_map(|name| of(name)).chain(own));
    all
}

/// What a finished file must be in the place of this one: a sound that is read here, of its format, whatever
/// tags stand in it; any other file begins like it.
fn closed(stock: Option<&Path>) -> Result<Rule> {
    let Some(stock) = stock else {
        return Ok(Rule::of_all(Accepted::Opaque));
    };
    if let Ok(clip) = Clip::open(stock) {
        let Format { container, encoding, .. } = clip.facts().format;
        let spec = Spec {
            container: Choice::OneOf(vec![container]),
            encoding: Choice::OneOf(vec![Encoding::plain(encoding.codec)]),
            ..Spec::ANY
        };
        return Ok(Rule::of_all(Accepted::Sound(vec![spec])));
    }
    let head = Member::of_file("", stock)?.head;
    let mark = vec![mark_of(&head)];
    Ok(Rule { first_bytes: OneOrMany(mark), ..Rule::of_all(Accepted::Opaque) })
}

/// What the files of the same extension in the folder agree on.
fn demand_of_neighbours(path: &Path) -> Result<Demand> {
    let unknown = || OddPath::NoSpec.of(path);
    let folder = path.parent().ok_or_else(unknown)?;
    let alike = |name: &String| Path::new(name).extension() == path.extension();
    let mut demands = names_in(folder)
        .into_iter()
        .filter(alike)
        .filter_map(|name| Clip::open(&folder.join(name)).ok())
        .map(|clip| Demand::like(clip.facts()));
    let first = demands.next().ok_or_else(unknown)?;
    match demands.all(|other| other == first) {
        true => Ok(first),
        false => Err(unknown()),
    }
}

/// Where a clip lies, as a path that means the same from any folder; nothing where it is no file.
pub(super) fn clip_path(clip: &Input) -> Option<String> {
    let path: PathBuf = absolute(clip.path()?).ok()?;
    Some(path.to_string_lossy().into_owned())
}
