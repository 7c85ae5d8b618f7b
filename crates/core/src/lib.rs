//! Files and names: slots, the ledger, and putting files in place. No samples, no interface: this
//! crate prints nothing.
#![cfg_attr(test, allow(clippy::as_conversions))]

pub mod check;
pub mod disk;
pub mod encoder;
pub mod error;
pub mod fit;
pub mod hash;
pub mod install;
pub mod learn;
pub mod ledger;
pub mod names;
pub mod sheet;
pub mod slots;
pub mod stock;
pub mod target;
pub mod tree;

pub use disk::{Disk, RealDisk};
pub use error::{Error, Result};
pub use hash::Hash;
