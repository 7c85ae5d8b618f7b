//! The whole job for one slot: fit the clip to the stock, keep the stock, put the new file there.

use super::root::{Root, find_root};
use super::status::{Condition, condition};
use super::warning::{Warning, warnings_of};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::fit::{Durable, same_file, write_verified};
use crate::hash::Hash;
use crate::ledger::record::{Held, Installed};
use crate::ledger::{Ledger, Recovered, kept_in, state::State};
use crate::names::{Difference, did_you_mean, family_of, nearest};
use crate::tree::{names_in, slot_name};
use deft_needle_audio::observe::Observer;
use deft_needle_audio::plan::{Reference, Step, plan_clip};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::survey::{Ask, Survey, survey};
use deft_needle_audio::{Clip, Edits, Facts, Plan};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// What is asked.
pub struct Swap<'a> {
    /// The clip.
    pub clip: &'a Clip,
    /// The file to replace, as it was typed.
    pub slot: &'a Path,
    /// The root, where it was named.
    pub root: Option<&'a Path>,
    /// The ledger's folder, where it was named.
    pub ledger: Option<&'a Path>,
    /// What is done to the clip before it is fitted.
    pub edits: &'a Edits,
    /// What the slot asks for where no stock tells it.
    pub demand: Option<Demand>,
    /// What the user asks beside what the stock tells, which wins.
    pub adjust: &'a dyn Fn(&mut Demand),
    /// Whether a file may be put where none was.
    pub new: bool,
}

/// One side of before and after.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Side {
    /// The spec line.
    pub spec: String,
    /// Length in seconds.
    pub seconds: f64,
    /// What was measured.
    pub survey: Survey,
    /// Whether it has loop points.
    pub loops: bool,
}

/// A swap that is decided, and not yet done.
#[derive(Debug)]
pub struct Prepared {
    /// The root.
    pub root: Root,
    /// The slot, relative to the root.
    pub slot: String,
    /// What will be done to the clip.
    pub plan: Plan,
    /// The stock's copy or the stock itself; `None` where nothing was.
    stock: Option<PathBuf>,
    generations: usize,
    changed_since: bool,
    recovered: Option<Recovered>,
}

/// What was done.
#[derive(Debug, Serialize)]
pub struct Swapped {
    /// The root.
    pub root: Root,
    /// The slot, relative to the root.
    pub slot: String,
    /// What was done to the clip.
    pub plan: Plan,
    /// What only rendering knows.
    pub outcome: Outcome,
    /// The stock; nothing where no file was.
    pub before: Option<Side>,
    /// The new file.
    pub after: Side,
    /// What the user should know.
    pub warnings: Vec<Warning>,
    /// A change that had been broken off earlier.
    pub recovered: Option<Recovered>,
}

impl Swap<'_> {
    /// Decides what will be done. A change that was broken off earlier is dealt with first, on
    /// `disk`; without one nothing is changed at all.
    ///
    /// # Errors
    /// [`Error::Refused`] where the slot does not exist (naming near ones), is a link or a folder,
    /// or is the clip itself; the errors of planning.
    pub fn prepare(&self, disk: Option<&dyn Disk>, observer: &dyn Observer) -> Result<Prepared> {
        let root = find_root(self.slot, self.root, self.ledger)?;
        let path = std::path::absolute(self.slot).map_err(Error::read(self.slot))?;
        let slot = slot_name(&root.path, &path)?;
        refuse_links(&root.path, &path)?;
        if self
            .clip
            .input()
            .path()
            .is_some_and(|c| same_file(c, &path))
        {
            return Err(Error::refused(
                format!(
                    "the clip and the slot are the same file: {}",
                    path.display()
                ),
                "name the clip first, then the file that it replaces",
            ));
        }
        let (state, recovered) = match disk {
            Some(disk) => {
                let ledger = Ledger::open(&root.path, &root.ledger, disk)?;
                (ledger.state().clone(), ledger.recovered().cloned())
            }
            None => (Ledger::peek(&root.ledger)?, None),
        };
        let (stock, changed_since) = find_stock(&root, &state, &slot, &path)?;
        let known = state.slots.get(&slot);
        let ours = known.is_some_and(|known| known.installed.is_some());
        if stock.is_none() && !self.new && !ours {
            return Err(no_such_slot(self.slot, &path));
        }
        let mut demand = match (&self.demand, &stock) {
            (Some(demand), _) => demand.clone(),
            (None, Some(stock)) => Demand::like(Clip::open(stock)?.facts()),
            (None, None) => demand_of_neighbours(&path)?,
        };
        (self.adjust)(&mut demand);
        let generations = known.map_or(0, |known| known.stock.len());
        let reference = Reference {
            stock: stock.as_deref(),
        };
        Ok(Prepared {
            root,
            slot,
            plan: plan_clip(self.clip, &demand, self.edits, reference, observer)?,
            stock,
            generations,
            changed_since,
            recovered,
        })
    }

    /// Does it.
    ///
    /// # Errors
    /// Those of rendering, verifying and of the ledger; nothing is changed then.
    pub fn carry_out(
        &self,
        prepared: Prepared,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Swapped> {
        let Prepared {
            root, slot, plan, ..
        } = &prepared;
        let before = match &prepared.stock {
            Some(stock) => Some(side(&Clip::open(stock)?, observer)?),
            None => None,
        };
        let mut ledger = Ledger::open(&root.path, &root.ledger, disk)?;
        let mut change = ledger.begin("swap", std::slice::from_ref(slot))?;
        let part = change.part(slot)?;
        let written = write_verified(self.clip, plan, &part, Durable::Yes, disk, observer)?;
        let after = side(&Clip::open(&part)?, observer)?;
        let installed = self.describe(plan, &written.facts, &after)?;
        change.install(slot, Hash::of_file(&part)?, installed)?;
        change.finish()?;
        let mut warnings = Warning::of_outcome(&written.outcome, plan.to.format.rate);
        warnings.extend(warnings_of(before.as_ref(), &after));
        warnings.extend(self.variants_left(&prepared, ledger.state()));
        if prepared.changed_since {
            let kept = prepared.generations + 1;
            warnings.push(Warning::ChangedSince { kept });
        }
        Ok(Swapped {
            before,
            after,
            warnings,
            recovered: prepared.recovered,
            outcome: written.outcome,
            root: prepared.root,
            slot: prepared.slot,
            plan: prepared.plan,
        })
    }

    fn describe(&self, plan: &Plan, facts: &Facts, after: &Side) -> Result<Installed> {
        let now = SystemTime::now().duration_since(UNIX_EPOCH);
        let clip_hash = self.clip.input().path().map(Hash::of_file).transpose()?;
        let edit = |d: &deft_needle_audio::plan::Decision| format!("{}: {}", d.about, d.what);
        Ok(Installed {
            clip: self.clip.input().name().to_string_lossy().into_owned(),
            clip_hash,
            edits: plan.decisions.iter().map(edit).collect(),
            spec: facts.format.to_string(),
            seconds: facts.seconds(),
            lufs: Some(after.survey.loudness.lufs).filter(|lufs| lufs.is_finite()),
            guide: plan
                .steps()
                .iter()
                .any(|step| matches!(step, Step::Separate { .. })),
            at: now.map_or(0, |since| since.as_secs()),
        })
    }

    /// Other members of the slot's family that no job of ours has replaced.
    fn variants_left(&self, prepared: &Prepared, state: &State) -> Option<Warning> {
        let family = family_of(&prepared.slot)?;
        let folder = prepared.slot.rsplit_once('/').map_or("", |(f, _)| f);
        let path = std::path::absolute(self.slot).ok()?;
        let slots: Vec<String> = names_in(path.parent()?)
            .into_iter()
            .map(|name| match folder {
                "" => name,
                folder => format!("{folder}/{name}"),
            })
            .filter(|name| *name != prepared.slot)
            .filter(|name| family_of(name).is_some_and(|f| f.pattern == family.pattern))
            .filter(|name| state.slots.get(name).is_none_or(|s| s.installed.is_none()))
            .collect();
        (!slots.is_empty()).then_some(Warning::VariantsStayStock { slots })
    }
}

/// Where the true stock lies, and whether it is another than the ledger knows. Our own file is
/// never the stock: specs and levels must not feed back.
pub(super) fn find_stock(
    root: &Root,
    state: &State,
    slot: &str,
    path: &Path,
) -> Result<(Option<PathBuf>, bool)> {
    let now = crate::ledger::held_at(path)?;
    let here = (now != Held::Nothing).then(|| path.to_owned());
    let known = state.slots.get(slot);
    let Some((known, (ours, _))) = known.and_then(|k| Some((k, k.installed.as_ref()?))) else {
        return Ok((here, false));
    };
    match condition(now, *ours, known) {
        Condition::ChangedSince => Ok((here, true)),
        Condition::StockAgain => Ok((here, false)),
        Condition::Installed | Condition::Missing => match known.stock.last() {
            Some(Held::File(hash)) => {
                let kept = kept_in(&root.ledger, *hash);
                if !kept.is_file() || Hash::of_file(&kept)? != *hash {
                    return Err(Error::StockDamaged {
                        slot: slot.to_owned(),
                        path: kept,
                    });
                }
                Ok((Some(kept), false))
            }
            Some(Held::Nothing) | None => Ok((None, false)),
        },
    }
}

/// A link could lead anywhere, and a rename would replace it instead of the file.
pub(super) fn refuse_links(root: &Path, path: &Path) -> Result<()> {
    if path.is_dir() {
        return Err(Error::refused(
            format!("{} is a folder", path.display()),
            "name the file to replace",
        ));
    }
    let below = path.ancestors().take_while(|folder| *folder != root);
    for part in below {
        if part.is_symlink() {
            return Err(Error::refused(
                format!("{} is a link", part.display()),
                "name the file that it leads to",
            ));
        }
    }
    Ok(())
}

pub(super) fn no_such_slot(typed: &Path, path: &Path) -> Error {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let Some(folder) = path.parent().filter(|folder| folder.is_dir()) else {
        return Error::refused(
            format!("there is no {}, nor its folder", typed.display()),
            "check the path; --new makes a new file and its folder",
        );
    };
    let names = names_in(folder);
    let mut near = nearest(&name, names.iter().map(String::as_str), 3);
    let surely = near.first().map(|first| first.how);
    // Where one differs in case or extension alone, it is meant and no other.
    near.retain(|n| surely == Some(Difference::Spelling) || Some(n.how) == surely);
    let what = format!("there is no {}", typed.display());
    match did_you_mean(&near) {
        None => Error::refused(what, "check the name; --new puts a file where none was"),
        Some(question) => Error::refused(
            what,
            format!("{question} (--new puts a file where none was)"),
        ),
    }
}

/// What the files of the same extension in the folder agree on.
fn demand_of_neighbours(path: &Path) -> Result<Demand> {
    let unknown = || {
        Error::refused(
            format!("nothing tells what {} must be", path.display()),
            "say it with --like FILE or --spec \"wav pcm16 24000 mono\"",
        )
    };
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

fn side(clip: &Clip, observer: &dyn Observer) -> Result<Side> {
    Ok(Side {
        spec: clip.facts().format.to_string(),
        seconds: clip.facts().seconds(),
        survey: survey(clip, Ask::ALL, observer)?,
        loops: !clip.facts().loops.is_empty(),
    })
}
