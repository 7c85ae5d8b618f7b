//! Plans: what will be done to a clip, decided before any of it is done.
//!
//! A plan is a pure function of the clip's facts and what is demanded. It is data, which whoever shows it words;
//! nothing is decided later.

mod around;
mod beside;
mod carry;
mod decide;
mod decision;
mod depth;
mod form;
mod level;
mod make;
mod places;
mod rate;
mod reason;
mod rounds;
mod routing;
pub mod select;
mod shape;
mod steps;
mod stretch;
mod target;

pub use decision::{Decision, Subject};
pub(crate) use form::refuse_too_large;
pub use level::{Reference, Surveys};
pub(crate) use make::plan_of_any_size;
pub use make::{plan, plan_clip};
pub use reason::{
    CutReason, DepthReason, FoundSeam, HeaderReason, LeftOut, Levelling, LoopReason, Stretch,
};

pub use crate::shape::Step;
use crate::shape::texture::Texture;
use crate::spec::{Format, Output};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// All that will be done to one clip.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "kind", content = "steps", rename_all = "kebab-case")]
pub enum Work {
    /// Nothing: the same bytes.
    Nothing,
    /// Another header; the samples are copied bit for bit.
    Rewrap,
    /// These steps, in this order.
    Render(Vec<Step>),
}

impl Plan {
    /// The steps of rendering; none where nothing is rendered.
    pub fn steps(&self) -> &[Step] {
        match &self.work {
            Work::Render(steps) => steps,
            Work::Nothing | Work::Rewrap => &[],
        }
    }

    /// The pieces that take the clip's place; everything else is done to what comes of them.
    pub fn texture(&self) -> Option<&Texture> {
        self.steps().iter().find_map(|step| match step {
            Step::Texture(texture) => Some(texture),
            _ => None,
        })
    }
}
