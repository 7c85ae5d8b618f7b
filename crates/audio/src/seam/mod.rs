//! Seams: where a loop's end meets its start.

mod align;
mod bands;
pub(crate) mod choose;
mod find;
mod judge;
pub(crate) mod kept_tail;
mod predict;
mod repeats;
mod spectrum;
mod windows;

pub use choose::near;
pub use find::{Candidate, find};
pub use judge::{Judged, Sides, Verdict, judge};
pub use repeats::Wanted;
pub use windows::windows;
