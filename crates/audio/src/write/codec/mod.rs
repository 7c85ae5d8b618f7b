//! Encoders: samples to bytes.

#[cfg(feature = "aac")]
pub mod aac;
pub mod alac;
mod bits;
mod g711;
mod ima;
mod pcm;
pub mod plain;
pub mod qoa;
pub mod vorbis;

pub use g711::{to_a_law, to_mu_law};
pub use ima::usual_block;
