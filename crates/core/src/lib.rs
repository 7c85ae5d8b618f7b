//! Files and names: slots, the ledger, and putting files in place. No samples, no interface: this
//! crate prints nothing.
#![cfg_attr(test, allow(clippy::as_conversions))]

pub mod check;
mod digests;
pub mod disk;
pub mod encoder;
pub mod entry;
pub mod error;

mod fit_cache;
pub mod hash;
pub mod hash_cache;
pub mod job;
pub mod learn;
pub mod ledger;
pub mod limits;
pub mod names;
pub mod notice;
pub mod pack;
pub mod refusal;
pub mod root;
mod rows;
pub mod run;
pub mod sheet;
pub mod slots;
pub mod stock;
pub mod target;
pub mod template;
pub mod tree;

pub use disk::{Disk, RealDisk};
pub use error::{Error, Result};
pub use hash::Hash;
pub use refusal::Refusal;

/// The guide to both libraries, whose examples are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../library.md")]
pub struct LibraryGuide;
