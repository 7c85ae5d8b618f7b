//! Simulated devices and games that load files as strictly as real ones.
//!
//! Their readers are their own, byte by byte, and share nothing with the crates that they judge; only
//! Vorbis packets are decoded by the library behind `vorbis_rs`.
pub mod brass_wren;
pub mod glass_heron;
pub mod lantern_ferry;
pub mod lockbox;
pub mod porch_finch;
pub mod slow_comet;

mod adpcm;
mod strict_json;
mod wave_out;
