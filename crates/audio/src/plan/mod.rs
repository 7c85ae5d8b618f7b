//! Plans: what will be done to a clip, decided before any of it is done.
//!
//! A plan is a pure function of the clip's facts and what is demanded. It prints as text and
//! serialises; nothing is decided later.

mod around;
mod beside;
mod carry;
mod decide;
mod depth;
mod form;
mod level;
mod make;
mod places;
mod rate;
mod rounds;
mod routing;
pub mod select;
mod shape;
mod steps;
mod target;

pub(crate) use form::refuse_too_large;
pub use level::Reference;
pub(crate) use make::plan_of_any_size;
pub use make::{plan, plan_clip};

use crate::shape::Step;
use crate::spec::{Format, Output};
use crate::units::Duration;
use serde::Serialize;
use std::fmt;

/// All that will be done to one clip.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Plan {
    /// What comes in.
    pub from: Format,
    /// How many frames come in.
    pub from_frames: u64,
    /// What goes out.
    pub to: Output,
    /// What has to be done.
    pub work: Work,
    /// Every decision, with its reason.
    pub decisions: Vec<Decision>,
}

/// How much has to be done.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "kind", content = "steps", rename_all = "kebab-case")]
pub enum Work {
    /// Nothing: the same bytes.
    Nothing,
    /// Another header; the samples are copied bit for bit.
    Rewrap,
    /// These steps, in this order.
    Render(Vec<Step>),
}

/// One decision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Decision {
    /// What it is about: `samples`, `channels`, `sample rate`, `bit depth`, `header`, `loop`, `chunks`.
    pub about: &'static str,
    /// What will be done.
    pub what: String,
    /// Why.
    pub why: String,
}

impl Plan {
    /// The steps of rendering; none where nothing is rendered.
    pub fn steps(&self) -> &[Step] {
        match &self.work {
            Work::Render(steps) => steps,
            Work::Nothing | Work::Rewrap => &[],
        }
    }
}

impl fmt::Display for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let line = |format: Format, frames: u64| {
            let seconds = Duration(format.rate.seconds(frames));
            format!("{format}, {frames} frames, {seconds}")
        };
        writeln!(f, "  from  {}", line(self.from, self.from_frames))?;
        write!(f, "  to    {}", line(self.to.format, self.to.frames))?;
        for Decision { about, what, why } in &self.decisions {
            write!(f, "\n  {about:<12} {what}\n  {:<12} because {why}", "")?;
        }
        Ok(())
    }
}
