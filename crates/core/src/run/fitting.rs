//! One clip made into one file: the only road. What is fitted to a path of the user's, what is swapped and
//! every line of a job is planned, written, proved and judged here.

use crate::disk::Disk;
use crate::disk::{Durable, make_file, put_file};
use crate::error::Result;
use crate::notice::Notice;
use crate::run::refuse_existing;
use crate::sheet::Rule;
use crate::slots::Listed;
use deft_needle_audio::block::{Source, each_block};
use deft_needle_audio::measure::{Ask, Survey, Surveyor};
use deft_needle_audio::observe::Observer;
use deft_needle_audio::plan::{Reference, Surveys, plan_clip};
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::render::{Outcome, render};
use deft_needle_audio::shape::blocks::BlockStep as _;
use deft_needle_audio::spec::{Container, Demand};
use deft_needle_audio::verify::{Listener, verify};
use deft_needle_audio::write::Out;
use deft_needle_audio::{Clip, Edits, Error as AudioError, Facts, Plan};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// One clip on its way to one file.
#[derive(Debug, Clone, Copy)]
pub struct Fitting<'a> {
    /// The clip.
    pub clip: &'a Clip,
    /// What the file must be.
    pub demand: &'a Demand,
    /// What is done to the clip.
    pub edits: &'a Edits,
    /// The rule whose limits hold.
    pub rule: Option<&'a Rule>,
    /// What is replaced.
    pub reference: Reference<'a>,
}

/// What was written.
#[derive(Debug, Clone)]
pub struct Written {
    /// What only rendering knows.
    pub outcome: Outcome,
    /// The file's own facts, read back.
    pub facts: Facts,
    /// What was measured of it while it was proved, where somebody listened.
    pub survey: Option<Survey>,
}

/// Who hears a file while it is decoded to be proved and measured, so that it need not be decoded once more.
pub trait Audience: Sync {
    /// Takes all of its frames.
    ///
    /// # Errors
    /// Those of reading, and the audience's own.
    fn hear(
        &self,
        clip: &Clip,
        frames: &mut dyn Source,
        observer: &dyn Observer,
    ) -> Result<(), AudioError>;
}

/// Hears nothing more than what is measured.
impl Audience for () {
    fn hear(
        &self,
        _: &Clip,
        frames: &mut dyn Source,
        observer: &dyn Observer,
    ) -> Result<(), AudioError> {
        each_block(frames, observer, |_| {})
    }
}

/// One side of before and after.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Side {
    /// The spec line.
    pub spec: String,
    /// Length in seconds.
    pub seconds: f64,
    /// Loudness in LUFS; nothing for silence, and where it is not known.
    pub lufs: Option<f64>,
    /// Whether it has loop points.
    pub loops: bool,
    /// What was measured; nothing where only a list tells.
    pub survey: Option<Survey>,
}

impl Fitting<'_> {
    /// Decides what will be done.
    ///
    /// # Errors
    /// Whatever cannot be met: by the clip, by the demand, within the rule's limits.
    pub fn plan(&self, observer: &dyn Observer) -> Result<Plan> {
        let plan = plan_clip(self.clip, self.demand, self.edits, self.reference, observer)?;
        if let Some(rule) = self.rule {
            rule.refuse(&plan, self.edits)?;
        }
        Ok(plan)
    }

    fn prove(
        &self,
        plan: &Plan,
        path: &Path,
        outcome: &Outcome,
        audience: Option<&dyn Audience>,
        observer: &dyn Observer,
    ) -> Result<(Facts, Option<Survey>), AudioError> {
        let mut survey = None;
        let mut listen = |clip: &Clip, frames: &mut dyn Source| {
            survey = Some(Side::heard(clip, frames, audience.unwrap_or(&()), observer)?);
            Ok(())
        };
        let listener: Option<Listener<'_>> = match audience {
            Some(_) => Some(&mut listen),
            None => None,
        };
        let facts = verify(self.clip, plan, outcome, path, listener, observer)?;
        // Only a finished file tells how much room a lossy encoding takes.
        match self.rule.and_then(|rule| rule.too_large(facts.file_bytes)) {
            None => Ok((facts, survey)),
            Some(short) => Err(AudioError::CannotMeet(short.into())),
        }
    }

    /// Writes the planned file at `path`, and proves it; measures it where somebody listens. Whatever goes wrong, nothing
    /// is left there.
    ///
    /// # Errors
    /// Those of rendering and verifying, and [`crate::Error::Write`].
    pub fn write(
        &self,
        plan: &Plan,
        path: &Path,
        audience: Option<&dyn Audience>,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Written> {
        let make = |out: &mut dyn Out| render(self.clip, plan, out, observer);
        let prove =
            |path: &Path, outcome: &Outcome| self.prove(plan, path, outcome, audience, observer);
        let (outcome, (facts, survey)) = make_file(path, Durable::No, disk, make, prove)?;
        Ok(Written { outcome, facts, survey })
    }

    /// The same beside `out`, put in place once it is proved.
    ///
    /// # Errors
    /// [`crate::Error::Refused`] where there is a file already and `overwrite` is not set, or where `out`
    /// is the clip itself; else as [`Fitting::write`].
    pub fn put(
        &self,
        plan: &Plan,
        out: &Path,
        overwrite: bool,
        audience: Option<&dyn Audience>,
        disk: &dyn Disk,
        observer: &dyn Observer,
    ) -> Result<Written> {
        refuse_existing(&[self.clip], out, overwrite)?;
        let make = |file: &mut dyn Out| render(self.clip, plan, file, observer);
        let prove =
            |path: &Path, outcome: &Outcome| self.prove(plan, path, outcome, audience, observer);
        let (outcome, (facts, survey)) = put_file(out, disk, make, prove)?;
        Ok(Written { outcome, facts, survey })
    }

    /// The clip as it was before the plan, beside what was measured of the written file.
    ///
    /// # Errors
    /// Those of reading.
    pub fn before(&self, plan: &Plan, after: &Side, observer: &dyn Observer) -> Result<Side> {
        let Some(surveys) = self.reference.surveys else {
            return Side::of(self.clip, &(), observer);
        };
        let told = after.survey.as_ref().and_then(|after| surveys.before(self.clip, plan, after));
        match told {
            Some(before) => Ok(Side::measured(self.clip, before)),
            None => Side::known(self.clip, surveys, &(), observer),
        }
    }

    /// What the user should know of a written file, next to what is replaced.
    ///
    /// # Errors
    /// Those of reading.
    pub fn judge(
        &self,
        plan: &Plan,
        written: &Clip,
        outcome: &Outcome,
        [before, after]: [Option<&Side>; 2],
    ) -> Result<Vec<Notice>> {
        let mut notices = Notice::of_outcome(outcome, written.facts().format.rate);
        notices.extend(Notice::of_plan(plan));
        notices.extend(Notice::of_seam(written, self.edits)?);
        if let (Some(before), Some(after)) = (before, after) {
            notices.extend(Notice::of_difference(before, after));
        }
        let peak = after.and_then(|after| Some(after.survey.as_ref()?.peak_dbfs));
        if peak.is_some_and(|peak| peak == f64::NEG_INFINITY) {
            notices.push(Notice::Silent);
        }
        Ok(notices)
    }
}

/// Opens what was written, told what its content cannot tell.
///
/// # Errors
/// As [`Clip::open`].
pub fn open_written(path: &Path, plan: &Plan) -> Result<Clip> {
    let hints = Hints {
        raw: (plan.to.format.container == Container::Raw).then_some(plan.to.format),
        loop_tags: Some(plan.to.loop_tags.clone()),
        beside: plan.to.beside.map(|l| l.range),
        reverse: false,
    };
    Ok(Clip::from_input(Input::file(path), &hints)?)
}

impl Side {
    /// Measures a clip.
    ///
    /// # Errors
    /// Those of reading.
    pub fn of(clip: &Clip, audience: &dyn Audience, observer: &dyn Observer) -> Result<Self> {
        Self::known(clip, &Surveys::default(), audience, observer)
    }

    /// The same, where it may have been measured before: then nobody hears it.
    ///
    /// # Errors
    /// As [`Side::of`].
    pub fn known(
        clip: &Clip,
        surveys: &Surveys,
        audience: &dyn Audience,
        observer: &dyn Observer,
    ) -> Result<Self> {
        let hear = || Self::heard(clip, &mut *clip.frames()?, audience, observer);
        Ok(Self::measured(clip, surveys.of_clip(clip, hear)?))
    }

    /// Measures what an audience hears.
    fn heard(
        clip: &Clip,
        frames: &mut dyn Source,
        audience: &dyn Audience,
        observer: &dyn Observer,
    ) -> Result<Survey, AudioError> {
        let kind = clip.facts().format.encoding.codec.kind();
        let surveyor = Surveyor::new(frames, kind, Ask::ALL);
        let mut surveyor = surveyor.with_outline(clip.facts().frames);
        audience.hear(clip, &mut (&mut surveyor).on(frames), observer)?;
        Ok(surveyor.finish())
    }

    /// A clip of which this was measured.
    pub fn measured(clip: &Clip, survey: Survey) -> Self {
        Self {
            spec: clip.facts().format.to_string(),
            seconds: clip.facts().seconds(),
            lufs: Some(survey.loudness.lufs).filter(|lufs| lufs.is_finite()),
            loops: !clip.facts().loops.is_empty(),
            survey: Some(survey),
        }
    }

    /// What a list tells of a sound; nothing of files of closed formats.
    pub fn listed(listed: &Listed) -> Option<Self> {
        Some(Self {
            spec: listed.spec.clone(),
            seconds: listed.seconds?,
            lufs: listed.lufs,
            loops: listed.looped.is_some(),
            survey: None,
        })
    }
}
