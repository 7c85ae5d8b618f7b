//! Packs: a job as something to share. The same bytes on every run, read back and checked.

mod archive;
mod icon;
mod manifest;
mod receipt;
mod take_in;

pub use receipt::Receipt;

use crate::disk::Disk;
use crate::encoder::private_folder;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::hash_cache::HashCache;
use crate::ledger::record::Installed;
use crate::refusal::{OddPack, OddPath};
use crate::run::{JobPlan, Keep, Line, Make, Notice, Packed, Run};
use crate::sheet::{Pack, PackForm};
use crate::stock::{Member, Stock};
use deft_needle_audio::Observer;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// The folder of a pack that holds what `install` needs.
pub const OWN_FOLDER: &str = "deft-needle";

/// What was packed.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Report {
    /// The archive or folder.
    #[serde(serialize_with = "deft_needle_audio::path_text::lossy")]
    pub out: PathBuf,
    /// Its files, in order.
    pub members: Vec<String>,
    /// How many of them are slots.
    pub slots: usize,
    /// Its size.
    pub bytes: u64,
    /// The hash of all of it.
    pub hash: Hash,
    /// What the user should know.
    pub notices: Vec<Notice>,
}

impl Run {
    pub(crate) fn layout(&self) -> Pack {
        self.target.sheet.pack.clone().unwrap_or_default()
    }

    /// Where a slot lies in a pack.
    pub(crate) fn packed_as(&self, slot: &str) -> String {
        match &self.layout().folder {
            Some(folder) => format!("{}/{slot}", folder.0),
            None => slot.to_owned(),
        }
    }

    /// Makes every file of the pack in a private folder.
    ///
    /// # Errors
    /// Those of fitting; templates that name what is not known; an icon of another size.
    pub fn make_pack(
        &self,
        plan: &JobPlan,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Packed> {
        let folder = private_folder()?;
        let path_of = |line: &Line| folder.path().join(Hash::of(line.slot.as_bytes()).hex());
        let lines: Vec<&Line> = plan.lines.iter().collect();
        let parts: Vec<PathBuf> = plan.lines.iter().map(path_of).collect();
        let how = Make { keep: Keep::No, audience: &(), whole: &|_| {}, disk, observer };
        let fitted = self.make_all(&lines, &parts, how)?;
        let named = lines.iter().zip(fitted).map(|(line, fitted)| {
            let stands_for = Some(line.slot.clone());
            (self.packed_as(&line.slot), Installed { stands_for, ..fitted.installed })
        });
        let made = named.collect();
        let mut members: BTreeMap<String, PathBuf> = BTreeMap::new();
        for line in &plan.lines {
            members.insert(self.packed_as(&line.slot), path_of(line));
        }
        for line in &plan.lines {
            for beside in self.beside(line)?.0 {
                let is_main = self.target.sheet.is_main(beside.root.as_deref());
                let Some(bytes) = beside.bytes.filter(|_| is_main) else { continue };
                let path = folder.path().join(Hash::of(beside.path.as_bytes()).hex());
                std::fs::write(&path, bytes).map_err(Error::write("write", &path))?;
                members.insert(self.packed_as(&beside.path), path);
            }
        }
        let mut texts = manifest::manifests(self, plan)?;
        if !self.packing || self.layout().bare {
            let lists = self.brought(&plan.lines, disk)?.files.into_iter();
            texts.extend(lists.map(|(file, bytes)| (self.packed_as(&file), bytes)));
        }
        texts.extend(receipt::receipt(self, plan, &path_of)?);
        if let Some(icon) = icon::icon(self, plan, &path_of, observer)? {
            texts.push(icon);
        }
        for (at, (name, bytes)) in texts.into_iter().enumerate() {
            let path = folder.path().join(format!("own-{at}"));
            std::fs::write(&path, bytes).map_err(Error::write("write", &path))?;
            if members.insert(name.clone(), path).is_some() {
                return Err(OddPack::Twice { name }.into());
            }
        }
        Ok(Packed { members, made, folder })
    }

    /// Packs the job into `out`, and checks it by reading it back.
    ///
    /// # Errors
    /// Everything that is wrong with the job; those of [`Run::make_pack`] and of writing.
    pub fn pack(
        &mut self,
        out: &Path,
        overwrite: bool,
        dry_run: bool,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Report> {
        let state = self.rootless_state();
        let mut plan = self.look(&state, &HashCache::default(), disk, observer)?;
        self.refuse(&mut plan)?;
        let form = self.layout().form;
        if form == PackForm::Folder {
            let used = std::fs::read_dir(out).is_ok_and(|mut entries| entries.next().is_some());
            if used {
                return Err(OddPath::NotEmpty.of(out));
            }
        } else {
            if out.is_dir() {
                return Err(OddPath::Folder.of(out));
            }
            crate::run::refuse_existing(&[], out, overwrite)?;
        }
        if dry_run {
            self.check_manifests(&plan)?;
            let slots = plan.lines.iter().map(|line| self.packed_as(&line.slot));
            return Ok(Report {
                out: out.to_owned(),
                members: slots.collect(),
                slots: plan.lines.len(),
                bytes: plan.lines.iter().filter_map(Line::plan).map(|p| p.to.about_bytes()).sum(),
                hash: Hash::of(&[]),
                notices: plan.notices,
            });
        }
        let packed = self.make_pack(&plan, disk, observer)?;
        let checked = |path: &Path| self.check_pack(&packed, path);
        packed.write(form, out, disk, &checked)?;
        let hash = match form {
            PackForm::Folder => packed.fingerprint()?,
            PackForm::Zip | PackForm::TarGz => Hash::of_file(out)?,
        };
        let bytes = packed.bytes(form, out);
        Ok(Report {
            out: out.to_owned(),
            members: packed.members.keys().cloned().collect(),
            slots: plan.lines.len(),
            bytes,
            hash,
            notices: plan.notices,
        })
    }

    /// What can be told wrong of manifests and picture before anything is made.
    ///
    /// # Errors
    /// A template that names what is not known, or makes no document; a picture that is none.
    pub fn check_manifests(&self, plan: &JobPlan) -> Result<()> {
        manifest::manifests(self, plan)?;
        icon::given(self).map(drop)
    }

    /// Holds what was written against what was meant, and every slot against the sheet.
    fn check_pack(&self, packed: &Packed, out: &Path) -> Result<()> {
        let wrong = |what: String| Error::Audio(deft_needle_audio::Error::Verify { what });
        let slots: BTreeMap<String, &str> = self
            .dealt
            .placements
            .iter()
            .map(|placement| (self.packed_as(&placement.slot), placement.slot.as_str()))
            .collect();
        let look = |member: &Member| {
            let meant = packed.members.get(&member.name);
            let meant = meant.ok_or_else(|| wrong(format!("{} was not planned", member.name)))?;
            if Hash::of_file(meant)? != member.hash()? {
                return Err(wrong(format!("{} reads back as another", member.name)));
            }
            if let Some(slot) = slots.get(&member.name)
                && let Some(short) = self.target.shortfalls(slot, member).first()
            {
                return Err(wrong(format!("{slot}: {short:?}")));
            }
            Ok(member.name.clone())
        };
        let read = Stock::open(out)?.look(&look, &deft_needle_audio::observe::Unobserved)?;
        if let Some(left) = read.left_out.into_iter().next() {
            return Err(left.error);
        }
        let found: BTreeSet<String> = read.found.into_iter().collect();
        if let Some(lost) = packed.members.keys().find(|name| !found.contains(*name)) {
            return Err(wrong(format!("{lost} is not in it")));
        }
        let bytes = packed.bytes(self.layout().form, out);
        match self.layout().largest.filter(|most| bytes > most.0) {
            None => Ok(()),
            Some(most) => Err(OddPack::TooLarge { bytes, most: most.0 }.into()),
        }
    }
}

impl Packed {
    /// How much room it takes as it was written.
    fn bytes(&self, form: PackForm, out: &Path) -> u64 {
        let size = |path: &Path| std::fs::metadata(path).map_or(0, |found| found.len());
        match form {
            PackForm::Folder => self.members.values().map(|path| size(path)).sum(),
            PackForm::Zip | PackForm::TarGz => size(out),
        }
    }
}
