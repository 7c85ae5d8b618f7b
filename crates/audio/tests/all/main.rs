//! All tests of this crate from outside, in one program: a program a file would take long to link.
#![allow(clippy::as_conversions, clippy::print_stdout, clippy::unwrap_used, missing_docs)]

mod bench;
mod beside;
mod broken;
mod directions;
mod exact_loops;
mod finding;
mod foreign;
mod formats_page;
mod house;
mod layout;
mod loops;
mod lossy_loops;
mod masking;
mod meters;
mod mp3;
mod options;
mod packets;
mod plans;
mod proofs;
mod readers;
mod round_trips;
mod specs;
mod targets;
mod telephones;
mod textures;
mod wav_read;
mod wav_write;
