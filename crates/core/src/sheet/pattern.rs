//! Patterns over slots: `*` within a name, `**` over folders, `#` for what variants differ in.

use crate::limits;
use crate::names::family_of;
use crate::refusal::fault::clipped;
use deft_needle_audio::Invalid;
use globset::{Glob, GlobBuilder, GlobMatcher};
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;
use std::str::FromStr;
use std::sync::OnceLock;

/// A pattern.
#[derive(Debug, Clone, Serialize)]
#[serde(into = "String")]
pub struct Pattern {
    text: String,
    glob: Glob,
    /// Made when it is first asked for: a stranger's sheet may hold very many.
    matcher: OnceLock<GlobMatcher>,
}

impl Pattern {
    /// Whether a slot is meant.
    pub fn matches(&self, slot: &str) -> bool {
        let matcher = self.matcher.get_or_init(|| self.glob.compile_matcher());
        matcher.is_match(slot)
            || (self.text.contains('#')
                && family_of(slot).is_some_and(|family| matcher.is_match(family.pattern)))
    }

    /// As it is written.
    pub fn text(&self) -> &str {
        &self.text
    }
}

/// A name with everything that patterns give a meaning to made plain.
pub fn literal(name: &str) -> String {
    globset::escape(name)
}

impl FromStr for Pattern {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let bad = |expected: String| Err(Invalid::new("pattern", &clipped(text), expected));
        if text.chars().count() > limits::PATTERN_TEXT {
            return bad(format!("at most {} characters", limits::PATTERN_TEXT));
        }
        let path = text.replace('\\', "/");
        if path.starts_with('/') || path.split('/').any(|part| part == "..") {
            return bad("one that does not lead out of its root".to_owned());
        }
        // What variants differ in may stand in brackets, which are no class of characters then.
        let glob = GlobBuilder::new(&path.replace("[#]", "[[]#[]]"))
            .literal_separator(true)
            .backslash_escape(false)
            .build();
        match glob {
            Ok(glob) => Ok(Self { glob, text: path, matcher: OnceLock::new() }),
            Err(error) => bad(format!("a well-formed one ({})", error.kind())),
        }
    }
}

impl<'de> Deserialize<'de> for Pattern {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(D::Error::custom)
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl From<Pattern> for String {
    fn from(pattern: Pattern) -> Self {
        pattern.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_and_variants() {
        for (pattern, yes, no) in [
            ("music/**", "music/a/b.ogg", "sfx/music/a.ogg"),
            ("music/*", "music/b.ogg", "music/a/b.ogg"),
            ("**/*.wav", "a/b/c.wav", "a/b/c.ogg"),
            ("**/*.wav", "c.wav", "wav"),
            ("sfx/gull_#.ogg", "sfx/gull_12.ogg", "sfx/gull_wing.ogg"),
            ("sfx/*_#.ogg", "sfx/gull_a.ogg", "sfx/gull.ogg"),
            (r"sfx\step (#).wav", "sfx/step (3).wav", "sfx/step (x).wav"),
            ("sfx/cart[#].ogg", "sfx/cart[3].ogg", "sfx/cart3.ogg"),
            ("sfx/door-#-left.ogg", "sfx/door-02-left.ogg", "sfx/door-left.ogg"),
            ("a[[]1].wav", "a[1].wav", "a1.wav"),
        ] {
            let parsed: Pattern = pattern.parse().unwrap();
            assert!(parsed.matches(yes) && !parsed.matches(no), "{pattern}");
        }
        for pattern in ["../**", "/a", "a[", "a/../b"] {
            assert!(pattern.parse::<Pattern>().is_err(), "{pattern}");
        }
        assert!(literal("a[1]*.wav").parse::<Pattern>().unwrap().matches("a[1]*.wav"));
    }
}
