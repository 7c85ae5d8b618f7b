//! All tests of this crate from outside, in one program: a program a file would take long to link.
#![allow(clippy::as_conversions, clippy::print_stdout, clippy::unwrap_used, missing_docs)]

mod bench;
mod commands;
mod demo;
mod finish;
mod formats;
mod jobs;
mod learn;
mod loops;
mod pacing;
mod packs;
mod pictures;
mod proof;
mod safety;
mod shapes;
mod shaping;
mod sheets;
mod stock;
mod strangers;
mod swap;
mod targets;
mod tools;
mod words;
