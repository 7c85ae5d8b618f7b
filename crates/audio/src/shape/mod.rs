//! The steps that change samples, each a source that pulls from the one before.

pub mod blocks;
pub mod crossfade;
pub mod cut;
pub mod dc;
pub mod fade;
pub mod finite;
pub mod gain;
pub mod lengthen;
pub mod limit;
pub mod pad;
pub mod quantise;
pub mod resample;
pub mod route;
pub mod separate;
pub mod stretches;
pub mod texture;
pub mod tone;
pub mod voicing;
pub mod windows;

pub mod biquad;
mod noise;
pub(crate) mod oversample;
mod steps;

pub use steps::Step;
pub(crate) use steps::{Counts, begin, chain, shaped};
