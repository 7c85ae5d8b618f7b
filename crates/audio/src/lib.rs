//! Clips and what becomes of them: specs, readers, measurements, plans, shaping steps, writers and
//! verification. No targets, no interface: this crate prints nothing and knows no folders.
//!
//! A clip travels `read` → (`survey`) → `plan` → `render` (`shape`, `write`) → `verify`.
#![cfg_attr(test, allow(clippy::as_conversions))]

pub mod block;
pub mod clip;
mod crc;
pub mod digest;
mod dot;
pub mod edit;
pub mod error;
pub mod hear;
mod invalid;
pub mod likeness;
pub mod masking;
pub mod measure;
pub mod num;
pub mod observe;
pub mod path_text;
pub mod plan;
pub mod read;
pub mod render;
pub mod seam;
pub mod shape;
pub mod spec;
mod tags;
pub mod units;
mod unmet;
pub mod verify;
pub mod write;

/// Raised whenever the same clip and plan may give other bytes: our own steps, or a codec's version.
pub const ENGINE: &str = concat!(env!("CARGO_PKG_VERSION"), ".8");

pub use block::{Block, Source};
pub use clip::{Loop, Note};
pub use edit::Edits;
pub use error::{Error, Result};
pub use invalid::Invalid;
pub use observe::Observer;
pub use plan::Plan;
pub use read::Clip;
pub use spec::{Demand, Facts, Spec};
pub use unmet::Unmet;
