//! How much louder or quieter, and whether a limiter is needed.

use super::{Decision, Levelling, Output, Plan, Step, Work};
use crate::edit::{Edits, Level, LevelGoal};
use crate::error::{Error, Result};
use crate::measure::{Ask, Loudness, Measure, Survey, survey, survey_source};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::shaped;
use crate::spec::Kind;
use crate::units::FrameRange;
use crate::unmet::Unmet;
use std::collections::HashMap;
use std::path::Path;
use std::sync::Mutex;

/// The file that `stock` means.
#[derive(Debug, Clone, Copy, Default)]
pub struct Reference<'a> {
    /// `None` where nothing is replaced, or the file is not at hand.
    pub stock: Option<&'a Path>,
    /// Its loudness in LUFS, where that is known without the file.
    pub lufs: Option<f64>,
    /// What was measured of clips before.
    pub surveys: Option<&'a Surveys>,
}

/// What was measured of clips, so that one that goes to many slots is measured once. Clips are told by their
/// names, and so must not change meanwhile.
#[derive(Debug, Default)]
pub struct Surveys(Mutex<HashMap<String, Survey>>);

impl Surveys {
    /// A clip as it is; where it was not measured before, `measure` does it.
    ///
    /// # Errors
    /// Those of measuring.
    pub fn of_clip(&self, clip: &Clip, measure: impl FnOnce() -> Result<Survey>) -> Result<Survey> {
        self.of(clip, &[], Ask::ALL, measure)
    }

    /// A clip as it was before a plan that gave it a gain and no more, told by what was measured of the file that was
    /// written: no meter hears it twice. `None` where more was done to it, or where rounding shows in the file's levels.
    pub fn before(&self, clip: &Clip, plan: &Plan, after: &Survey) -> Option<Survey> {
        let [Step::Gain { decibels }, Step::Quantise { .. }] = plan.steps() else { return None };
        let Kind::Integer(bits) = plan.to.format.encoding.codec.kind() else { return None };
        let mut before = self.find(&key(clip, &[], Ask::default()))?;
        let steps = 2f64.powi(i32::try_from(bits).ok()? - 1);
        before.take_levels(after, *decibels, steps).then_some(before)
    }

    fn find(&self, key: &str) -> Option<Survey> {
        self.0.lock().ok()?.get(key).cloned()
    }

    fn of(
        &self,
        clip: &Clip,
        steps: &[Step],
        ask: Ask,
        measure: impl FnOnce() -> Result<Survey>,
    ) -> Result<Survey> {
        let key = key(clip, steps, ask);
        if let Some(known) = self.find(&key) {
            return Ok(known);
        }
        let survey = measure()?;
        if let Ok(mut known) = self.0.lock() {
            known.insert(key, survey.clone());
        }
        Ok(survey)
    }
}

fn key(clip: &Clip, steps: &[Step], ask: Ask) -> String {
    format!("{:?} {:?} {steps:?} {ask:?}", clip.input().name(), clip.facts())
}

/// What was decided about the level.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Levelled {
    /// Gain and limiter, as far as needed.
    pub steps: Vec<Step>,
    /// Every decision, with its reason.
    pub decisions: Vec<Decision>,
}

/// Ceilings by default: lossy encodings overshoot when they are decoded.
const LOSSY_CEILING: f64 = -1.0;
const CEILING: f64 = 0.0;

/// Measures the shaped signal where a level or a gain is asked for, and decides.
///
/// # Errors
/// [`Error::CannotMeet`] for silence, and for `stock` where there is none; those of reading.
pub fn measure(
    clip: &Clip,
    plain: &Plan,
    edits: &Edits,
    reference: Reference<'_>,
    observer: &dyn Observer,
) -> Result<Levelled> {
    if edits.gain.is_none() && edits.level.is_none() {
        return Ok(Levelled::default());
    }
    let later =
        |step: &Step| matches!(step, Step::Fade { .. } | Step::Pad { .. } | Step::Quantise { .. });
    let steps: Vec<Step> = match &plain.work {
        Work::Render(steps) => steps.iter().filter(|step| !later(step)).cloned().collect(),
        Work::Nothing | Work::Rewrap => Vec::new(),
    };
    let mut steps = steps;
    let Output { before, beyond, .. } = plain.to;
    if before + beyond > 0 {
        // Only what the file will hold counts.
        let range = FrameRange { start: before, end: before + plain.to.frames };
        steps.push(Step::Cut { range });
    }
    let kind = plain.to.format.encoding.codec.kind();
    // A plain gain asks for peaks alone, to see whether they fit.
    let ask = match &edits.level {
        Some(_) => Ask::ALL,
        None => Ask { true_peak: by_true_peak(edits, kind), loudness: false },
    };
    let survey = || {
        if steps.is_empty() {
            return survey(clip, ask, observer);
        }
        let mut source = shaped(clip, &steps)?;
        survey_source(&mut *source, Kind::Float(64), ask, observer)
    };
    let found = match reference.surveys {
        Some(surveys) => surveys.of(clip, &steps, ask, survey)?,
        None => survey()?,
    };
    let goal = match &edits.level {
        Some(level) => Some(goal_of(level, reference, observer)?),
        None => None,
    };
    decide(edits, goal, &found, kind)
}

/// Whether a ceiling holds between samples too: a lossy file makes others of them, and whoever names a ceiling means it.
fn by_true_peak(edits: &Edits, kind: Kind) -> bool {
    kind == Kind::Lossy || edits.ceiling.is_some()
}

/// A level to reach.
enum Goal {
    /// In figures.
    Figure(LevelGoal),
    /// As loud as a file, measured as the clip is.
    As(Loudness),
}

/// A level in figures.
fn goal_of(level: &Level, reference: Reference<'_>, observer: &dyn Observer) -> Result<Goal> {
    let like = |path: &Path| {
        let clip = Clip::open(path)?;
        let found = match reference.surveys {
            Some(surveys) => surveys.of_clip(&clip, || survey(&clip, Ask::ALL, observer))?,
            None => survey(&clip, Ask::LOUDNESS, observer)?,
        };
        match found.loudness.lufs.is_finite() {
            true => Ok(Goal::As(found.loudness)),
            false => Err(Error::CannotMeet(Unmet::SilentReference { path: path.to_owned() })),
        }
    };
    match (level, reference.stock) {
        (Level::Peak(db), _) => Ok(Goal::Figure(LevelGoal::Peak(*db))),
        (Level::TruePeak(db), _) => Ok(Goal::Figure(LevelGoal::TruePeak(*db))),
        (Level::Loudness(lufs), _) => Ok(Goal::Figure(LevelGoal::Loudness(*lufs))),
        (Level::Like(path), _) => like(path),
        (Level::Stock, Some(path)) => like(path),
        (Level::Stock, None) if reference.lufs.is_some() => {
            Ok(Goal::Figure(LevelGoal::Loudness(reference.lufs.unwrap_or_default())))
        }
        (Level::Stock, None) => Err(Error::CannotMeet(Unmet::NoStock)),
    }
}

/// How far a clip is from a level, by which measure, and what its loudness over all would call for.
fn reach(goal: Goal, found: &Survey) -> Levelling {
    let own = &found.loudness;
    let (now, goal, measure, integrated, of_both) = match goal {
        Goal::Figure(LevelGoal::Peak(db)) => {
            (found.peak_dbfs, LevelGoal::Peak(db), own.measure, f64::NAN, false)
        }
        Goal::Figure(LevelGoal::TruePeak(db)) => {
            (found.true_peak_dbtp, LevelGoal::TruePeak(db), own.measure, f64::NAN, false)
        }
        Goal::Figure(LevelGoal::Loudness(lufs)) => {
            (own.lufs, LevelGoal::Loudness(lufs), own.measure, lufs - own.integrated, false)
        }
        Goal::As(other) => {
            let (measure, [now, wanted]) = own.beside(&other);
            let of_both = own.measure != other.measure;
            // What is padded is told so.
            let measure = if of_both { measure } else { own.measure };
            let integrated = other.integrated - own.integrated;
            (now, LevelGoal::Loudness(wanted), measure, integrated, of_both)
        }
    };
    let other = measure != Measure::Integrated && integrated.is_finite();
    let integrated = other.then_some(integrated);
    Levelling { now, goal, measure, integrated, of_both, of_stock: false }
}

/// A pure function of what was measured.
fn decide(edits: &Edits, goal: Option<Goal>, found: &Survey, kind: Kind) -> Result<Levelled> {
    let mut levelled = Levelled::default();
    let mut gain = edits.gain.map_or(0.0, |gain| gain.0);
    if let Some(goal) = goal {
        let mut level = reach(goal, found);
        level.of_stock = edits.level == Some(Level::Stock);
        level.integrated = level.integrated.map(|by| by + gain);
        let (LevelGoal::Peak(wanted) | LevelGoal::TruePeak(wanted) | LevelGoal::Loudness(wanted)) =
            level.goal;
        if !level.now.is_finite() {
            return Err(Error::CannotMeet(Unmet::SilentClip));
        }
        gain += wanted - level.now;
        levelled.decisions.push(Decision::Gained { gain, level: Some(level) });
    } else {
        levelled.decisions.push(Decision::Gained { gain, level: None });
    }
    let lossy = kind == Kind::Lossy;
    let usual = if lossy { LOSSY_CEILING } else { CEILING };
    let ceiling = edits.ceiling.map_or(usual, |ceiling| ceiling.0);
    let now = if by_true_peak(edits, kind) { found.true_peak_dbtp } else { found.peak_dbfs };
    let peak = now + gain;
    let over = peak > ceiling + 1e-6;
    if over && !edits.allow_clipping {
        levelled.decisions.push(Decision::PeaksLimited { ceiling, peak });
    } else if over {
        levelled.decisions.push(Decision::PeaksClipped { peak });
    }
    if gain != 0.0 {
        levelled.steps.push(Step::Gain { decibels: gain });
    }
    if over && !edits.allow_clipping {
        levelled.steps.push(Step::Limit { ceiling });
    }
    Ok(levelled)
}
