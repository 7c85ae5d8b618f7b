//! Names of slots: variants, rules, and what somebody may have meant.

mod near;
mod right;
mod rules;
mod taken;
mod variants;

pub use near::{Difference, Near, did_you_mean, nearest};
pub use right::right_name;
pub use rules::{Case, Form, NameRules, reserved};
pub use taken::Taken;
pub use variants::{Family, family_of};

use unicode_normalization::UnicodeNormalization;

/// A name for comparing: composed Unicode, lower case. File systems differ in both.
pub fn folded(name: &str) -> String {
    name.nfc().flat_map(char::to_lowercase).collect()
}
