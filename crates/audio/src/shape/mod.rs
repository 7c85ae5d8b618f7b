//! The steps that change samples, each a source that pulls from the one before.

pub mod finite;
pub mod quantise;
pub mod resample;
pub mod route;

mod noise;
