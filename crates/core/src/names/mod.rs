//! Names of slots: variants, rules, and what somebody may have meant.

mod key;
mod near;
mod right;
mod rules;
mod taken;
mod variants;

pub use key::{Key, LEDGER_FOLDER, PART, is_own, is_within};
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

/// A path as a word that shells take, for commands that are to be pasted.
pub fn shell_word(path: &std::path::Path) -> String {
    let text = path.to_string_lossy();
    let plain = |c: char| c.is_alphanumeric() || "/\\._-:+".contains(c);
    match !text.is_empty() && text.chars().all(plain) {
        true => text.into_owned(),
        false => format!("\"{text}\""),
    }
}
