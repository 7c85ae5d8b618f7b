//! Names of slots: variants, and what somebody may have meant.

mod near;
mod variants;

pub use near::{Difference, Near, did_you_mean, nearest};
pub use variants::{Family, family_of};

use unicode_normalization::UnicodeNormalization;

/// A name for comparing: composed Unicode, lower case. File systems differ in both.
pub fn folded(name: &str) -> String {
    name.nfc().flat_map(char::to_lowercase).collect()
}
