//! The whole job for one slot: fit the clip to the stock, keep the stock, put the new file there.

use super::slot::Asked;
use super::warning::{Warning, warnings_of};
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::fit::{Durable, write_verified};
use crate::hash::Hash;
use crate::ledger::record::Installed;
use crate::ledger::{Ledger, Recovered, What, state::State};
use crate::names::{Key, family_of};
use crate::root::Root;
use crate::sheet::Rule;
use crate::tree::names_in;
use deft_needle_audio::observe::Observer;
use deft_needle_audio::plan::{Reference, Step, plan_clip};
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::survey::{Ask, Survey, survey};
use deft_needle_audio::{Clip, Edits, Facts, Plan};
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// What is asked.
pub struct Swap<'a> {
    /// The clip.
    pub clip: &'a Clip,
    /// The file to replace, as it was typed.
    pub slot: &'a Path,
    /// The root.
    pub root: &'a Root,
    /// What is done to the clip before it is fitted.
    pub edits: &'a Edits,
    /// What the slot asks for where no stock tells it.
    pub demand: Option<Demand>,
    /// What the user asks beside what the stock tells, which wins.
    pub adjust: &'a dyn Fn(&mut Demand),
    /// The sheet's rule for this slot, whose limits hold.
    pub rule: Option<&'a Rule>,
    /// Whether a file may be put where none was.
    pub new: bool,
    /// The options that were typed, by their names: what a job sheet would say.
    pub options: BTreeMap<String, Vec<String>>,
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
    /// The slot.
    pub slot: Key,
    /// What will be done to the clip.
    pub plan: Plan,
    /// The stock's copy or the stock itself; `None` where nothing was.
    stock: Option<PathBuf>,
    warning: Option<Warning>,
    recovered: Option<Recovered>,
}

/// What was done.
#[derive(Debug, Serialize)]
pub struct Swapped {
    /// The root.
    pub root: Root,
    /// The slot.
    pub slot: Key,
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
    /// A change that had been interrupted earlier.
    pub recovered: Option<Recovered>,
}

impl Swap<'_> {
    /// Decides what will be done. A change that was interrupted earlier is dealt with first, on
    /// `disk`; without one nothing is changed at all.
    ///
    /// # Errors
    /// [`Error::Refused`] where the slot does not exist (naming near ones), is a link or a folder,
    /// or is the clip itself; the errors of planning.
    pub fn prepare(&self, disk: Option<&dyn Disk>, observer: &dyn Observer) -> Result<Prepared> {
        let slot = Asked {
            file: self.clip.input().path(),
            slot: self.slot,
            root: self.root,
            new: self.new,
        }
        .look_up(disk)?;
        let mut demand = match (&self.demand, &slot.stock) {
            (Some(demand), _) => demand.clone(),
            (None, Some(stock)) => Demand::like(Clip::open(stock)?.facts()),
            (None, None) => demand_of_neighbours(&slot.path)?,
        };
        (self.adjust)(&mut demand);
        let reference = Reference { stock: slot.stock.as_deref(), lufs: None };
        let plan = plan_clip(self.clip, &demand, self.edits, reference, observer)?;
        if let Some(rule) = self.rule {
            rule.refuse(&plan)?;
        }
        Ok(Prepared {
            plan,
            root: self.root.clone(),
            slot: slot.key,
            stock: slot.stock,
            warning: slot.warning,
            recovered: slot.recovered,
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
        let Prepared { root, slot, plan, .. } = &prepared;
        // Loops may stand under the target's own names.
        let hints = Hints { raw: None, loop_tags: Some(plan.to.loop_tags.clone()) };
        let open = |path: &Path| Clip::from_input(Input::file(path), &hints);
        let before = match &prepared.stock {
            Some(stock) => Some(side(&open(stock)?, observer)?),
            None => None,
        };
        let mut ledger = Ledger::open(root, disk)?;
        let mut change = ledger.begin(What::Swap, std::slice::from_ref(slot), Vec::new())?;
        let part = change.part(slot)?;
        let durable = Durable::Yes;
        let written = write_verified(self.clip, plan, &part, durable, self.rule, disk, observer)?;
        let made = open(&part)?;
        let after = side(&made, observer)?;
        let seam = Warning::of_seam(&made, self.edits)?;
        let installed = self.describe(plan, &written.facts, &after)?;
        change.install(slot, Hash::of_file(&part)?, installed)?;
        change.finish()?;
        let mut warnings = Warning::of_outcome(&written.outcome, plan.to.format.rate);
        warnings.extend(seam);
        warnings.extend(warnings_of(before.as_ref(), &after));
        warnings.extend(self.variants_left(&prepared, ledger.state()));
        warnings.extend(prepared.warning);
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
            guide: plan.steps().iter().any(|step| matches!(step, Step::Separate { .. })),
            at: now.map_or(0, |since| since.as_secs()),
            job: None,
            clip_path: absolute(self.clip.input().path()),
            options: self.options.clone(),
            key: None,
        })
    }

    /// Other members of the slot's family that no job of ours has replaced.
    fn variants_left(&self, prepared: &Prepared, state: &State) -> Option<Warning> {
        let slot = prepared.slot.within();
        let family = family_of(slot)?;
        let folder = slot.rsplit_once('/').map_or("", |(f, _)| f);
        let path = std::path::absolute(self.slot).ok()?;
        let slots: Vec<String> = names_in(path.parent()?)
            .into_iter()
            .map(|name| match folder {
                "" => name,
                folder => format!("{folder}/{name}"),
            })
            .filter(|name| *name != slot)
            .filter(|name| family_of(name).is_some_and(|f| f.pattern == family.pattern))
            .filter(|name| {
                let known = Key::parse(name).ok().and_then(|key| state.slots.get(&key));
                known.is_none_or(|known| known.top().is_none())
            })
            .collect();
        (!slots.is_empty()).then_some(Warning::VariantsStayStock { slots })
    }
}

/// A path that means the same from any folder.
pub(super) fn absolute(path: Option<&Path>) -> Option<String> {
    let path = std::path::absolute(path?).ok()?;
    Some(path.to_string_lossy().into_owned())
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
