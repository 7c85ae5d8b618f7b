//! Decoders: bytes to samples.

#[cfg(feature = "aac")]
pub mod aac;
pub mod adpcm;
pub mod g711;
pub mod g722;
pub mod g726;
pub mod gsm;
pub mod opus;
pub mod pcm;
pub mod qoa;
pub mod surround;
pub mod symphonia;
