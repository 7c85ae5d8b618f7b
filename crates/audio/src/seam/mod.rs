//! Seams: where a loop's end meets its start.

mod judge;
mod predict;

pub use judge::{Judged, Verdict, judge};
