//! What a proof shows: every file that a job would place, or that is installed, beside what it replaces. Nothing of the
//! root is changed.

use super::Run;
use super::fitting::{Audience, Side, open_written};
use super::line::{Line, Work};
use super::look::JobPlan;
use super::make::{Fitted, Keep, Make};
use super::restore::Which;
use super::status::{Condition, Proof, SlotStatus, Status, status};
use super::stock::find_stock;
use crate::disk::Disk;
use crate::encoder::private_folder;
use crate::error::Result;
use crate::hash::Hash;
use crate::job::start::lines_of;
use crate::ledger::state::State;
use crate::notice::Notice;
use crate::root::Root;
use deft_needle_audio::plan::Decision;
use deft_needle_audio::read::{Hints, Input, Private};
use deft_needle_audio::render::Outcome;
use deft_needle_audio::spec::{Container, Format};
use deft_needle_audio::{Clip, Observer};
use rayon::prelude::*;
use std::path::{Path, PathBuf};

/// How the file of a slot stands to the root.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It would be placed.
    New,
    /// It is there already.
    Unchanged,
    /// It is installed, or was.
    Installed(Condition),
}

/// One slot.
pub struct Preview {
    /// The slot.
    pub slot: String,
    /// The clip, as it was named.
    pub clip: String,
    /// How its file stands to the root.
    pub standing: Standing,
    /// What is replaced; nothing where nothing is known, or it is of a closed format.
    pub stock: Option<Clip>,
    /// What replaces it; nothing for a closed format.
    pub new: Option<Clip>,
    /// What was measured of both.
    pub sides: [Option<Side>; 2],
    /// Bytes of the new file.
    pub bytes: u64,
    /// What was decided of the clip.
    pub decisions: Vec<Decision>,
    /// What only rendering knows.
    pub outcome: Option<Outcome>,
    /// What the user should know.
    pub notices: Vec<Notice>,
    /// Its lines in a job sheet.
    pub lines: String,
}

/// All slots.
pub struct Previews {
    /// In their order.
    pub all: Vec<Preview>,
    /// Kept while the files are needed.
    _folder: Option<Private>,
}

impl Run {
    /// Makes every file of the plan in a private folder, just as an installation would. The audience hears each of them,
    /// and each that is replaced, but for copies and for what was measured before.
    ///
    /// # Errors
    /// Those of fitting.
    pub fn preview(
        &self,
        plan: &JobPlan,
        audience: &dyn Audience,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Previews> {
        let folder = private_folder()?;
        let path_of = |line: &Line| folder.path().join(Hash::of(line.slot.as_bytes()).hex());
        let is_new = |line: &&Line| !matches!(line.work, Work::Unchanged { .. });
        let lines: Vec<&Line> = plan.lines.iter().filter(is_new).collect();
        let parts: Vec<PathBuf> = lines.iter().map(|line| path_of(line)).collect();
        let how = Make { keep: Keep::ForLater, audience, whole: &|_| {}, disk, observer };
        let mut fitted = self.make_all(&lines, &parts, how)?.into_iter();
        self.fit_cache.trim(disk);
        let made: Vec<(&Line, Option<Fitted>)> =
            plan.lines.iter().map(|line| (line, fitted.next_if_new(is_new(&line)))).collect();
        let show = |(line, fitted): (&Line, Option<Fitted>)| match fitted {
            Some(fitted) => self.shown(line, fitted, &path_of(line)),
            None => self.unchanged_one(line, audience, observer),
        };
        let all = made.into_par_iter().map(show).collect::<Result<_>>()?;
        Ok(Previews { all, _folder: Some(folder) })
    }

    fn shown(&self, line: &Line, fitted: Fitted, path: &Path) -> Result<Preview> {
        let new = match line.plan() {
            Some(plan) if matches!(line.work, Work::Fit { .. }) => Some(open_written(path, plan)?),
            _ => Clip::from_input(Input::file(path), &line.hints()).ok(),
        };
        let mut notices = line.notices.clone();
        notices.extend(fitted.notices);
        Ok(Preview {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            standing: Standing::New,
            stock: line.stock_clip(),
            new,
            sides: [fitted.before, fitted.after],
            bytes: fitted.bytes,
            decisions: fitted.installed.decisions.clone(),
            outcome: fitted.outcome,
            notices,
            lines: lines_of(&line.slot, &fitted.installed),
        })
    }

    fn unchanged_one(
        &self,
        line: &Line,
        audience: &dyn Audience,
        observer: &dyn Observer,
    ) -> Result<Preview> {
        let path = self.root.as_ref().map(|root| line.key.path(&root.path)).unwrap_or_default();
        let new = Clip::from_input(Input::file(&path), &line.hints()).ok();
        let after = new.as_ref().map(|clip| Side::of(clip, audience, observer)).transpose()?;
        let installed = match &line.work {
            Work::Unchanged { installed } => Some(installed),
            _ => None,
        };
        Ok(Preview {
            slot: line.slot.clone(),
            clip: line.clip.clone(),
            standing: Standing::Unchanged,
            stock: line.stock_clip(),
            new,
            sides: [line.before(&self.surveys, audience, observer)?, after],
            bytes: std::fs::metadata(&path).map_or(0, |found| found.len()),
            decisions: installed.map(|one| one.decisions.clone()).unwrap_or_default(),
            outcome: None,
            notices: line.notices.clone(),
            lines: installed.map(|one| lines_of(&line.slot, one)).unwrap_or_default(),
        })
    }
}

/// Lines that are unchanged have no file of their own.
trait NextIfNew {
    fn next_if_new(&mut self, new: bool) -> Option<Fitted>;
}

impl<I: Iterator<Item = Fitted>> NextIfNew for I {
    fn next_if_new(&mut self, new: bool) -> Option<Fitted> {
        if new { self.next() } else { None }
    }
}

/// Everything that is installed in a root, or below a path of it; the audience hears it, and what it replaced.
///
/// # Errors
/// Those of the ledger and of reading.
pub fn exhibit_root(
    root: &Root,
    which: Which<'_>,
    audience: &dyn Audience,
    observer: &dyn Observer,
) -> Result<Previews> {
    let Status { slots, state, .. } = status(root, which, Proof::Look)?;
    let shown = |one: &SlotStatus| installed(root, &state, one, audience, observer);
    let all = slots.par_iter().filter(|one| !one.installed.beside).map(shown);
    Ok(Previews { all: all.collect::<Result<_>>()?, _folder: None })
}

fn installed(
    root: &Root,
    state: &State,
    one: &SlotStatus,
    audience: &dyn Audience,
    observer: &dyn Observer,
) -> Result<Preview> {
    let path = state.path_of(&root.path, &one.slot)?;
    let told: Option<Format> = one.installed.spec.parse().ok();
    let raw = told.filter(|format| format.container == Container::Raw);
    let hints = Hints { raw, ..Hints::default() };
    let open = |path: &Path| Clip::from_input(Input::file(path), &hints).ok();
    let (stock, _) = find_stock(root, state, &one.slot, &path)?;
    let (stock, new) = (stock.as_deref().and_then(open), open(&path));
    let side = |clip: &Option<Clip>| {
        clip.as_ref().map(|clip| Side::of(clip, audience, observer)).transpose()
    };
    let sides = [side(&stock)?, side(&new)?];
    let notices = match &sides {
        [Some(before), Some(after)] => Notice::of_difference(before, after),
        _ => Vec::new(),
    };
    Ok(Preview {
        slot: one.slot.to_string(),
        clip: one.installed.clip.clone(),
        standing: Standing::Installed(one.condition),
        stock,
        new,
        sides,
        bytes: std::fs::metadata(&path).map_or(0, |found| found.len()),
        decisions: one.installed.decisions.clone(),
        outcome: None,
        notices,
        lines: lines_of(one.slot.as_str(), &one.installed),
    })
}
