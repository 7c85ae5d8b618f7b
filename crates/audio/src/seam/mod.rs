//! Seams: where a loop's end meets its start.

mod align;
mod bands;
mod find;
mod judge;
pub(crate) mod kept_tail;
mod predict;
mod repeats;
mod spectrum;
mod windows;

pub(crate) use align::align;
pub use find::{Candidate, find};
pub use judge::{Judgement, Sides, Verdict, judge};
pub use repeats::Bounds;
pub use windows::windows;
