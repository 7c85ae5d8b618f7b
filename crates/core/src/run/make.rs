//! Method the file of one slot beside its place, and proving it; and what the ledger is told of it.

use super::Run;
use super::encode::Encoded;
use super::fitting::{Audience, Fitting, Side, open_written};
use super::line::{Line, Work};
use super::swap::clip_path;
use crate::disk::Disk;
use crate::disk::{Durable, copy_file};
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::ledger::record::Installed;
use crate::notice::Notice;
use crate::sheet::Method;
use deft_needle_audio::measure::Survey;
use deft_needle_audio::plan::Reference;
use deft_needle_audio::read::Input;
use deft_needle_audio::render::Outcome;
use deft_needle_audio::shape::Step;
use deft_needle_audio::{Clip, Observer, Plan, clip::Tag};
use rayon::prelude::*;
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};
use tracing::debug;

/// A file that was made beside its place.
pub struct Fitted {
    /// Its hash.
    pub hash: Hash,
    /// Its size.
    pub bytes: u64,
    /// What the ledger will say of it.
    pub installed: Installed,
    /// What only rendering knows.
    pub outcome: Option<Outcome>,
    /// What is replaced.
    pub before: Option<Side>,
    /// What replaces it.
    pub after: Option<Side>,
    /// What the user should know.
    pub notices: Vec<Notice>,
}

/// Whether what is made is kept for an installation that may follow.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Keep {
    No,
    ForLater,
}

/// How files are made.
#[derive(Clone, Copy)]
pub(crate) struct Make<'a> {
    /// Whether they are kept.
    pub keep: Keep,
    /// Who hears them, and what they replace.
    pub audience: &'a dyn Audience,
    /// Is told of each that is whole.
    pub whole: &'a (dyn Fn(&Path) + Sync),
    /// Where they are made.
    pub disk: &'a dyn Disk,
    /// Who watches.
    pub observer: &'a dyn Observer,
}

impl Run {
    /// Makes the files of several lines, each at its part, and proves them. What is made of the same clip in
    /// the same way is made once and copied.
    ///
    /// # Errors
    /// Those of the first line that fails.
    pub(crate) fn make_all(
        &self,
        lines: &[&Line],
        parts: &[PathBuf],
        how: Make<'_>,
    ) -> Result<Vec<Fitted>> {
        let mut firsts: HashMap<Hash, usize> = HashMap::new();
        let models: Vec<usize> = lines
            .iter()
            .enumerate()
            .map(|(at, line)| match line.work {
                Work::Fit { .. } | Work::Encode { .. } => *firsts.entry(line.fit_key).or_insert(at),
                Work::AsIs { .. } | Work::Unchanged { .. } => at,
            })
            .collect();
        let of = |at: usize, made: Result<Fitted>| {
            made.map_err(|error| self.of_slot(&lines[at].slot, &lines[at].clip, error))
        };
        let first: Vec<usize> = (0..lines.len()).filter(|at| models[*at] == *at).collect();
        let together = self.encode_together(lines, &first, how.observer)?;
        let made: Vec<Option<Fitted>> = (0..lines.len())
            .into_par_iter()
            .map(|at| match models[at] == at {
                true => {
                    let ready = together.made.get(&at);
                    of(at, self.make(lines[at], &parts[at], ready, how)).map(Some)
                }
                false => Ok(None),
            })
            .collect::<Result<_>>()?;
        let copies: Vec<Option<Fitted>> = (0..lines.len())
            .into_par_iter()
            .map(|at| match (&made[at], &made[models[at]]) {
                (None, Some(model)) => {
                    let from = &parts[models[at]];
                    of(at, self.copy(lines[at], &parts[at], model, from, how)).map(Some)
                }
                _ => Ok(None),
            })
            .collect::<Result<_>>()?;
        Ok(made.into_iter().zip(copies).filter_map(|(made, copy)| made.or(copy)).collect())
    }

    /// A line's file as a copy of another one that was made in the same way.
    fn copy(
        &self,
        line: &Line,
        part: &Path,
        model: &Fitted,
        from: &Path,
        how: Make<'_>,
    ) -> Result<Fitted> {
        copy_file(from, part, Durable::No, how.disk)?;
        (how.whole)(part);
        let before = line.before(&self.surveys, how.audience, how.observer)?;
        let of_file = |notice: &&Notice| !notice.is_of_difference();
        let mut notices: Vec<Notice> = model.notices.iter().filter(of_file).cloned().collect();
        if let (Some(before), Some(after)) = (&before, &model.after) {
            notices.extend(Notice::of_difference(before, after));
        }
        let like = &model.installed;
        Ok(Fitted {
            hash: model.hash,
            bytes: model.bytes,
            installed: Installed {
                spec: like.spec.clone(),
                seconds: like.seconds,
                lufs: like.lufs,
                decisions: like.decisions.clone(),
                guide: like.guide,
                ..self.installed(line)
            },
            outcome: model.outcome.clone(),
            before,
            after: model.after.clone(),
            notices,
        })
    }

    /// Makes one line's file at `part`, and proves it.
    fn make(
        &self,
        line: &Line,
        part: &Path,
        ready: Option<&Encoded>,
        how: Make<'_>,
    ) -> Result<Fitted> {
        let Make { keep, disk, observer, .. } = how;
        let mut fitted_anew = false;
        let mut made = Fitted {
            hash: Hash::of(&[]),
            bytes: 0,
            installed: self.installed(line),
            outcome: None,
            before: None,
            after: None,
            notices: Vec::new(),
        };
        match &line.work {
            Work::Fit { .. } => fitted_anew = self.fit(line, part, &mut made, how)?,
            Work::AsIs { .. } => {
                let path = line.input.stored_at().unwrap_or(Path::new(""));
                copy_file(path, part, Durable::No, disk)?;
                // A closed format has no length that could be told.
                if let Ok(clip) = Clip::from_input(Input::file(part), &line.hints()) {
                    made.installed.spec = clip.facts().format.to_string();
                    made.installed.seconds = clip.facts().seconds();
                    made.installed.guide = clip.facts().tags.contains(&Tag::guide());
                }
            }
            Work::Encode { plan, encoder } => {
                let outcome = match ready {
                    Some((encoded, outcome)) => {
                        self.refuse_made(line, encoded)?;
                        copy_file(encoded, part, Durable::No, disk)?;
                        outcome.clone()
                    }
                    None => self.encode(line, plan, encoder, part, disk, observer)?.outcome,
                };
                made.notices = Notice::of_outcome(&outcome, plan.to.format.rate);
                made.outcome = Some(outcome);
                made.installed.decisions.clone_from(&plan.decisions);
                made.installed.seconds = plan.to.seconds();
            }
            Work::Unchanged { installed } => made.installed = installed.clone(),
        }
        made.hash = Hash::of_file(part)?;
        made.bytes = std::fs::metadata(part).map_err(Error::read(part))?.len();
        if let (Keep::ForLater, true, Some(outcome)) = (keep, fitted_anew, &made.outcome) {
            // Without it the installation takes longer, and nothing else.
            let _ = self.fit_cache.keep(line.fit_key, part, made.hash, outcome, disk);
        }
        (how.whole)(part);
        if made.installed.spec.is_empty() {
            made.installed.spec = format!("opaque, {} bytes", made.bytes);
        }
        Ok(made)
    }

    /// Whether it had to be made, since no proof had made it before.
    fn fit(&self, line: &Line, part: &Path, made: &mut Fitted, how: Make<'_>) -> Result<bool> {
        let Make { audience, disk, observer, .. } = how;
        let Work::Fit { plan } = &line.work else {
            return Ok(false);
        };
        let clip = line.open()?;
        let fitting = self.fitting(line, &clip);
        let write = || -> Result<(Outcome, Option<Survey>)> {
            if let Some(outcome) = self.fitted_before(line, plan, part, disk) {
                return Ok((outcome, None));
            }
            let written = fitting.write(plan, part, Some(audience), disk, observer)?;
            Ok((written.outcome, written.survey))
        };
        // A stock of ten minutes takes seconds to measure, which the other core has while this one fits.
        let measure = || line.before(&self.surveys, audience, observer);
        let (written, before) = rayon::join(write, measure);
        let (outcome, survey) = written?;
        let file = open_written(part, plan)?;
        let anew = survey.is_some();
        let after = match survey {
            Some(survey) => Side::measured(&file, survey),
            None => Side::of(&file, audience, observer)?,
        };
        made.installed.spec = file.facts().format.to_string();
        made.installed.seconds = file.facts().seconds();
        made.installed.lufs = after.lufs;
        made.installed.decisions.clone_from(&plan.decisions);
        let separates = plan.steps().iter().any(|step| matches!(step, Step::Separate { .. }));
        made.installed.guide = separates || clip.facts().tags.contains(&Tag::guide());
        made.before = before?;
        made.notices =
            fitting.judge(plan, &file, &outcome, [made.before.as_ref(), Some(&after)])?;
        made.after = Some(after);
        made.outcome = Some(outcome);
        Ok(anew)
    }

    /// What a proof has made of the same clip in the same way, as far as it is what is planned.
    fn fitted_before(
        &self,
        line: &Line,
        plan: &Plan,
        part: &Path,
        disk: &dyn Disk,
    ) -> Option<Outcome> {
        let outcome = self.fit_cache.take(line.fit_key, part, disk)?;
        let mut format = plan.to.format;
        format.encoding.quality = None;
        let meets = |clip: Clip| {
            let facts = clip.facts();
            (facts.format, facts.frames, &facts.loops) == (format, plan.to.frames, &plan.to.loops)
        };
        if plan.to.beside.is_none() && open_written(part, plan).is_ok_and(meets) {
            debug!(slot = %line.slot, "fitted before");
            return Some(outcome);
        }
        let _ = disk.remove(part);
        None
    }

    pub(super) fn fitting<'a>(&'a self, line: &'a Line, clip: &'a Clip) -> Fitting<'a> {
        Fitting {
            clip,
            demand: &line.demand,
            edits: &line.request.edits,
            rule: self.target.sheet.rule_for(&line.slot),
            reference: Reference::default(),
        }
    }

    /// What the ledger is told of a line, but for what only its file tells.
    fn installed(&self, line: &Line) -> Installed {
        let mut options: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (name, text) in line.said.said() {
            options.entry(name.to_owned()).or_default().push(text.to_owned());
        }
        let mirrored = self.destination.slot_of(&line.key).is_some();
        Installed {
            stands_for: mirrored.then(|| line.slot.clone()),
            clip: line.clip.clone(),
            clip_hash: Some(line.clip_hash),
            clip_path: clip_path(&line.input),
            options,
            making: made_otherwise(line),
            key: Some(line.fit_key),
            ..self.placed_now()
        }
    }

    /// What is placed by this job at this moment.
    pub(super) fn placed_now(&self) -> Installed {
        let now = SystemTime::now().duration_since(UNIX_EPOCH);
        Installed {
            at: now.map_or(0, |since| since.as_secs()),
            job: self.job.layer().map(str::to_owned),
            ..Installed::default()
        }
    }
}

/// How a line's file is made, where it is not fitted: a rule's encoder makes it as one that was named does.
fn made_otherwise(line: &Line) -> Option<Method> {
    match &line.work {
        Work::Encode { encoder, .. } => Some(Method::Encoder(encoder.clone())),
        Work::AsIs { .. } => Some(Method::AsIs),
        Work::Fit { .. } | Work::Unchanged { .. } => None,
    }
}
