//! Seams: where a loop's end meets its start.

mod align;
mod around;
mod beat;
mod find;
mod form;
mod judge;
mod kept;
pub(crate) mod kept_tail;
mod listen;
mod pair;
mod place;
mod repeats;
mod smooth;
mod spectrum;
mod texture;

pub(crate) use align::align;
pub use find::{Bars, Candidate, find};
pub use form::Reason;
pub use judge::{Judgement, Sides, UNHEARD, Verdict, judge};
pub use repeats::Bounds;
pub use smooth::{Smoothing, smooth};
pub use texture::texture;
