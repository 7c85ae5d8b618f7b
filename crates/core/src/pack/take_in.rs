//! A pack that somebody else made, as a job: its sheet and the user's own roots decide what may be
//! written where. It brings no roots, no commands, and no say over what is removed.

use super::{OWN_FOLDER, Receipt};
use crate::encoder::private_folder;
use crate::error::{Error, Result};
use crate::job::{Dealt, Job, PackFacts, Placement};
use crate::limits;
use crate::refusal::OddPack;
use crate::root::Roots;
use crate::run::{Ask, Run};
use crate::sheet::Method;
use crate::sheet::{OneOrMany, Sheet};
use crate::stock::{Member, Stock};
use crate::target::Target;
use deft_needle_audio::Observer;
use deft_needle_audio::edit::Request;
use deft_needle_audio::read::Input;
use deft_needle_audio::read::Private;
use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};

/// What was found in a pack, unpacked into a private folder.
struct Unpacked {
    files: BTreeMap<String, PathBuf>,
    folder: Private,
}

impl Run {
    /// Whether a path is a pack, and no job sheet.
    pub fn is_pack(path: &Path) -> bool {
        path.join(OWN_FOLDER).is_dir() || Stock::is_archive(path)
    }

    /// Reads a pack. The target's sheet is `sheet` where the user names one, which may do all that sheets
    /// may; else the pack's own. The folder that is given with it must be kept while the run lasts.
    ///
    /// # Errors
    /// [`Error::Refused`] for an archive that is no pack, or without a root; sheets that are wrong.
    pub fn of_pack(
        pack: &Path,
        sheet: Option<&Path>,
        ask: Ask<'_>,
        observer: &dyn Observer,
    ) -> Result<(Self, Private)> {
        let unpacked = unpack(pack, observer)?;
        let receipt = unpacked.receipt(pack)?;
        let sheet = match sheet {
            Some(named) => Sheet::find(named)?,
            None => unpacked.sheet(pack)?,
        };
        // The main root has a name, too.
        let named = sheet.roots.first().and_then(|main| ask.others?.get(main));
        let Some(root) = ask.root.or(named.map(PathBuf::as_path)) else {
            return Err(OddPack::NoRoot.into());
        };
        let absolute = |path: &Path| std::path::absolute(path).map_err(Error::read(path));
        let mut roots = Roots { main: Some(absolute(root)?), others: BTreeMap::new() };
        for (name, path) in ask.others.into_iter().flatten() {
            if sheet.roots.first() == Some(name) {
                continue;
            }
            roots.others.insert(name.clone(), absolute(path)?);
        }
        let target = Target::new(sheet, roots)?;
        let facts = PackFacts {
            version: receipt.version.clone(),
            author: receipt.author.clone(),
            description: receipt.description.clone(),
            credits: OneOrMany(receipt.credits.clone()),
            licence: receipt.licence.clone(),
            icon: unpacked.icon(&target.sheet),
        };
        let place =
            receipt.place.as_ref().map(|place| place.in_roots(&target.roots)).transpose()?;
        let job = Job::of_pack(&receipt.name, receipt.values.clone(), facts, place, pack);
        let dealt = unpacked.deal(&receipt, &target, pack);
        let run = Self::of_parts(job, target, dealt, ask)?;
        Ok((run, unpacked.folder))
    }
}

/// Unpacks what is read of a pack.
fn unpack(pack: &Path, observer: &dyn Observer) -> Result<Unpacked> {
    let folder = private_folder()?;
    let look = |member: &Member| {
        let path = crate::tree::slot_path(folder.path(), &member.name)?;
        if let Some(above) = path.parent() {
            std::fs::create_dir_all(above).map_err(Error::write("make", above))?;
        }
        std::fs::write(&path, member.bytes_of()?).map_err(Error::write("write", &path))?;
        Ok((member.name.clone(), path))
    };
    let found = Stock::open(pack)?.look(&look, observer)?;
    if let Some(left) = found.left_out.into_iter().next() {
        return Err(left.error);
    }
    Ok(Unpacked { files: found.found.into_iter().collect(), folder })
}

impl Unpacked {
    fn own(&self, name: &str) -> Option<&PathBuf> {
        self.files.get(&format!("{OWN_FOLDER}/{name}"))
    }

    /// The picture that it brings.
    fn icon(&self, sheet: &Sheet) -> Option<PathBuf> {
        let wanted = sheet.pack.as_ref()?.icon.as_ref()?;
        self.files.get(&wanted.path.0).cloned()
    }

    fn receipt(&self, pack: &Path) -> Result<Receipt> {
        let no_pack =
            || OddPack::NotPack { path: pack.to_owned(), lacks: format!("{OWN_FOLDER}/pack.toml") };
        let path = self.own("pack.toml").ok_or_else(no_pack)?;
        let text = std::fs::read_to_string(path).map_err(Error::read(path))?;
        let odd = |what: String| Error::from(OddPack::Odd { path: pack.to_owned(), what });
        let receipt: Receipt =
            toml::from_str(&text).map_err(|error| odd(error.message().to_owned()))?;
        if receipt.name.trim().is_empty() || receipt.name.chars().any(char::is_control) {
            return Err(odd("its name is empty or holds odd characters".to_owned()));
        }
        Ok(receipt)
    }

    /// The pack's own sheet, without what a stranger must not decide: which files are removed, and which
    /// commands run.
    fn sheet(&self, pack: &Path) -> Result<Sheet> {
        let path =
            self.own("sheet.toml").ok_or_else(|| OddPack::NoSheet { path: pack.to_owned() })?;
        let mut sheet = Sheet::load(path)?;
        sheet.clear = Default::default();
        for rule in &mut sheet.rules {
            rule.encoder = None;
        }
        Ok(sheet)
    }

    fn deal(&self, receipt: &Receipt, target: &Target, pack: &Path) -> Dealt {
        let mut dealt = Dealt::default();
        if receipt.slots.len() > limits::SLOTS {
            let what = format!("it has more than {} slots", limits::SLOTS);
            dealt.faults.push(OddPack::Odd { path: pack.to_owned(), what }.into());
            return dealt;
        }
        let name = pack.file_name().unwrap_or_default().to_string_lossy();
        let ordered = receipt.order.iter().filter_map(|slot| receipt.slots.get_key_value(slot));
        let named: HashSet<&String> = receipt.order.iter().collect();
        let rest = receipt.slots.iter().filter(|(slot, _)| !named.contains(slot));
        for (slot, packed) in ordered.chain(rest) {
            let placed = (|| {
                let (slot, _) = target.aim(slot)?;
                let clip = self
                    .files
                    .get(&packed.file)
                    .ok_or_else(|| OddPack::Lacks { file: packed.file.clone() })?;
                if crate::Hash::of_file(clip)? != packed.hash {
                    return Err(OddPack::Differs { file: packed.file.clone() }.into());
                }
                Ok(Placement {
                    slot,
                    clip: Input::file(clip),
                    named: format!("{name}: {}", packed.file),
                    request: Request::default(),
                    like: None,
                    making: Method::AsIs,
                    link: None,
                    name_anyway: true,
                    new: false,
                    values: crate::template::values(&packed.values),
                })
            })();
            match placed {
                Ok(placement) => dealt.placements.push(placement),
                Err(error) => dealt.faults.push(Error::Slot {
                    slot: slot.clone(),
                    clip: name.clone().into_owned(),
                    source: Box::new(error),
                }),
            }
        }
        dealt
    }
}
