//! Names of slots: variants, rules, and what somebody may have meant.

mod char_set;
mod key;
mod near;
mod odd;
mod right;
mod rules;
mod taken;
mod variants;

pub use char_set::{CharSet, text};
pub use key::{Key, LEDGER_FOLDER, PART, is_own, is_within};
pub use near::{Difference, Near, common_folders, did_you_mean, is_a_letter_off, nearest};
pub use odd::{NotWithin, OddName};
pub use right::right_name;
pub use rules::{Case, Form, NameRules, reserved};
pub use taken::Taken;
pub use variants::{Family, family_of};

use std::cmp::Ordering;
use unicode_normalization::UnicodeNormalization;

/// A name for comparing: composed Unicode, lower case. File systems differ in both.
pub fn folded(name: &str) -> String {
    // Nearly all names are plain, and nearly everything compares names.
    if name.is_ascii() {
        return name.to_ascii_lowercase();
    }
    name.nfc().flat_map(char::to_lowercase).collect()
}

/// The folder that a slot lies in; empty for one in the root itself.
pub fn folder_of(slot: &str) -> &str {
    slot.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// The order of names as people count: `take 2` before `take 10`.
pub fn natural(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (runs(a), runs(b));
    loop {
        let ((x, is_number), (y, other)) = match (a.next(), b.next()) {
            (Some(x), Some(y)) => (x, y),
            (x, y) => return x.is_some().cmp(&y.is_some()),
        };
        let order = match is_number && other {
            true => {
                let (x, y) = (x.trim_start_matches('0'), y.trim_start_matches('0'));
                x.len().cmp(&y.len()).then_with(|| x.cmp(y))
            }
            false => x.cmp(y),
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}

/// Runs of digits and of anything else, and whether each is one of digits.
fn runs(name: &str) -> impl Iterator<Item = (&str, bool)> {
    let mut rest = name;
    std::iter::from_fn(move || {
        let is_number = rest.chars().next()?.is_ascii_digit();
        let end = rest.find(|c: char| c.is_ascii_digit() != is_number).unwrap_or(rest.len());
        let (run, after) = rest.split_at(end);
        rest = after;
        Some((run, is_number))
    })
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
