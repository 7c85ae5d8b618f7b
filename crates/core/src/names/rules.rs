//! How a target wants its files named, and what no file system of users' takes.

use super::{CharSet, OddName};
use deft_needle_audio::spec::Container;
use serde::{Deserialize, Serialize};
use unicode_normalization::UnicodeNormalization;

/// What a target's names are like. The default asks for nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NameRules {
    /// Maximum length of a name, without its extension.
    pub stem_longest: Option<usize>,
    /// The characters of the part before the extension.
    #[serde(default, deserialize_with = "super::char_set::text")]
    pub allowed: Option<CharSet>,
    /// Upper or lower case, of folders and extension, too.
    pub case: Option<Case>,
    /// The form of names on old file systems.
    pub form: Option<Form>,
}

/// Upper or lower case.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Case {
    /// No capital letter.
    Lower,
    /// No small letter.
    Upper,
}

/// The form of a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize)]
pub enum Form {
    /// Up to 8 characters and an extension of up to 3 (ECMA-107, 9.2).
    #[serde(rename = "8.3")]
    EightThree,
}

/// Characters that no name on Windows has.
pub(super) const NEVER: &[char] = &['<', '>', ':', '"', '|', '?', '*', '\\'];

/// Whether a name means a device on Windows, whatever its extension.
pub fn reserved(name: &str) -> bool {
    let stem = name.split('.').next().unwrap_or_default().trim_end();
    let stem = stem.to_ascii_uppercase();
    let numbered = |port: &str| {
        stem.strip_prefix(port).is_some_and(|rest| {
            matches!(rest.as_bytes(), [b'1'..=b'9']) || matches!(rest, "¹" | "²" | "³")
        })
    };
    matches!(stem.as_str(), "CON" | "PRN" | "AUX" | "NUL") || numbered("COM") || numbered("LPT")
}

/// A file's name, what comes before its last dot, and what comes after it.
pub(super) fn parts(slot: &str) -> (&str, &str, &str) {
    let file = slot.rsplit_once('/').map_or(slot, |(_, file)| file);
    match file.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() => (file, stem, extension),
        _ => (file, file, ""),
    }
}

impl NameRules {
    /// Whether nothing is asked.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Everything that is wrong with a name by itself. `extensions` are those that its slot may
    /// have; none: any.
    pub fn faults(&self, slot: &str, extensions: &[String]) -> Vec<OddName> {
        let (file, stem, extension) = parts(slot);
        let mut all = portable(file);
        let has = |known: &String| known.eq_ignore_ascii_case(extension);
        if !extensions.is_empty() && !extensions.iter().any(has) {
            all.push(OddName::Extension(extensions[0].clone()));
        }
        if let Some(second) = second_extension(stem, extensions) {
            all.push(OddName::SecondExtension(second.to_owned()));
        }
        let length = stem.chars().count();
        if let Some(most) = self.stem_longest.filter(|most| length > *most) {
            all.push(OddName::Long { length, most });
        }
        if let Some(allowed) = &self.allowed {
            let odd: String = distinct(stem.chars().filter(|c| !allowed.holds(*c)));
            if !odd.is_empty() {
                all.push(OddName::Letters { odd, allowed: allowed.to_string() });
            }
        }
        match self.case {
            Some(Case::Lower) if slot.chars().any(char::is_uppercase) => {
                all.push(OddName::Upper);
            }
            Some(Case::Upper) if slot.chars().any(char::is_lowercase) => {
                all.push(OddName::Lower);
            }
            _ => {}
        }
        if self.form == Some(Form::EightThree) && !eight_three(stem, extension) {
            all.push(OddName::NotShort);
        }
        all
    }
}

/// What no other computer may take.
fn portable(file: &str) -> Vec<OddName> {
    let mut all = Vec::new();
    let odd = distinct(file.chars().filter(|c| NEVER.contains(c) || c.is_control()));
    if !odd.is_empty() {
        all.push(OddName::Windows(odd.escape_debug().to_string()));
    }
    if reserved(file) {
        all.push(OddName::Device);
    }
    if file.ends_with(['.', ' ']) {
        all.push(OddName::End);
    }
    if file.nfc().ne(file.chars()) {
        all.push(OddName::Apart);
    }
    all
}

/// An extension before the extension: `gull.ogg` in `gull.ogg.wav`.
pub(super) fn second_extension<'a>(stem: &'a str, extensions: &[String]) -> Option<&'a str> {
    let (before, second) = stem.rsplit_once('.')?;
    let known = Container::from_extension(second).is_some()
        || extensions.iter().any(|e| e.eq_ignore_ascii_case(second));
    (known && !before.is_empty()).then_some(second)
}

/// Characters of a short name (ECMA-107, 9.2; the ones beside letters and digits as FAT has them).
pub(super) fn short_character(c: char) -> bool {
    c.is_ascii_alphanumeric() || "!#$%&'()-@^_`{}~".contains(c)
}

fn eight_three(stem: &str, extension: &str) -> bool {
    (1..=8).contains(&stem.chars().count())
        && extension.chars().count() <= 3
        && stem.chars().chain(extension.chars()).all(short_character)
}

fn distinct(letters: impl Iterator<Item = char>) -> String {
    let mut text = String::new();
    for letter in letters {
        if !text.contains(letter) {
            text.push(letter);
        }
    }
    text
}
