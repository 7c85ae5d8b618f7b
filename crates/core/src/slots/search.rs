//! Searching names and labels: every word must match.

use crate::names::{family_of, folded};
use crate::sheet::{Pattern, Sheet};
use deft_needle_audio::Invalid;

/// What somebody looks for.
#[derive(Debug, Clone)]
pub struct Query {
    words: Vec<Word>,
}

#[derive(Debug, Clone)]
enum Word {
    Plain(String),
    Glob { typed: String, anywhere: Vec<Pattern> },
}

/// What was found.
#[derive(Debug, Clone, Default)]
pub struct Searched {
    /// The slots.
    pub slots: Vec<String>,
    /// Whether they are only spelt alike.
    pub near: bool,
    /// What the user should know of what was typed.
    pub notes: Vec<String>,
}

/// How alike two spellings must be, of 1.
const ALIKE: f64 = 0.7;

/// Letters that two words of one stem begin with: `exploding`, `explosion`.
const STEM: usize = 5;

fn same_stem(a: &str, b: &str) -> bool {
    a.chars().zip(b.chars()).take_while(|(a, b)| a == b).count() >= STEM
}

impl Query {
    /// Reads the words; `*`, `?` and `#` make one a pattern.
    ///
    /// # Errors
    /// A pattern that is malformed.
    pub fn new(words: &[String]) -> Result<Self, Invalid> {
        let word = |typed: &String| {
            if !typed.contains(['*', '?', '#', '[']) {
                return Ok(Word::Plain(folded(&typed.replace('\\', "/"))));
            }
            // A pattern without folders means names in any; without extension, any.
            let bare = typed.replace('\\', "/").to_lowercase();
            let mut anywhere = vec![bare.parse()?];
            for wider in [format!("**/{bare}"), format!("{bare}.*"), format!("**/{bare}.*")] {
                anywhere.extend(wider.parse::<Pattern>().ok());
            }
            Ok(Word::Glob { typed: typed.clone(), anywhere })
        };
        let words = words.iter().map(word).collect::<Result<_, Invalid>>()?;
        Ok(Self { words })
    }

    /// The slots whose names or labels match; where there is none, those that are spelt alike.
    pub fn search(&self, names: &[&str], sheet: Option<&Sheet>) -> Searched {
        let label = |name: &str| sheet.and_then(|sheet| sheet.label(name)).unwrap_or_default();
        let found = |matches: &dyn Fn(&Word, &str, &str) -> bool| -> Vec<String> {
            let all = |name: &&&str| {
                let (plain, label) = (folded(name), folded(label(name)));
                self.words.iter().all(|word| matches(word, &plain, &label))
            };
            names.iter().filter(all).map(|name| (**name).to_owned()).collect()
        };
        let slots = found(&|word, name, label| word.matches(name, label));
        if !slots.is_empty() {
            let notes = self.words.iter().filter_map(|word| word.catches_more(&slots));
            return Searched { notes: notes.collect(), near: false, slots };
        }
        Searched {
            slots: found(&|word, name, label| word.is_near(name, label)),
            near: true,
            notes: Vec::new(),
        }
    }
}

impl Word {
    fn matches(&self, name: &str, label: &str) -> bool {
        match self {
            Self::Plain(word) => name.contains(word) || label.contains(word),
            Self::Glob { anywhere, .. } => anywhere.iter().any(|pattern| pattern.matches(name)),
        }
    }

    fn is_near(&self, name: &str, label: &str) -> bool {
        let Self::Plain(word) = self else {
            return self.matches(name, label);
        };
        let parts = |text: &'_ str| -> Vec<String> {
            text.split(|c: char| !c.is_alphanumeric()).map(str::to_owned).collect()
        };
        let near = |part: &String| {
            strsim::normalized_damerau_levenshtein(part, word) >= ALIKE || same_stem(part, word)
        };
        let file = name.rsplit('/').next().unwrap_or(name);
        let stem = file.split('.').next().unwrap_or(file).to_owned();
        self.matches(name, label)
            || near(&stem)
            || parts(name).iter().chain(&parts(label)).any(near)
    }

    /// `gull_*` also catches `gull_wing`, which is not a variant.
    fn catches_more(&self, slots: &[String]) -> Option<String> {
        let Self::Glob { typed, .. } = self else {
            return None;
        };
        let family = slots.iter().filter_map(|slot| family_of(slot)).find(|family| {
            let members =
                slots.iter().filter(|s| family_of(s).is_some_and(|f| f.pattern == family.pattern));
            members.count() > 1
        })?;
        let other = slots.iter().find(|slot| {
            let same_start =
                family.pattern.split('#').next().is_some_and(|start| slot.starts_with(start));
            same_start && family_of(slot).is_none_or(|own| own.pattern != family.pattern)
        })?;
        typed.contains('*').then(|| {
            format!(
                "{typed} also catches {other}, which is not a variant; {} means the variants alone",
                family.pattern
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn words_globs_and_near_spellings() {
        let sheet = "name = 'x'\n[labels]\n'music/trk_04.ogg' = 'Storm theme'";
        let sheet = Sheet::parse(sheet, Path::new("x")).unwrap();
        let names = [
            "music/trk_04.ogg",
            "sfx/gull_1.ogg",
            "sfx/gull_2.ogg",
            "sfx/gull_wing.ogg",
            "sfx/bell.ogg",
        ];
        for (words, found, near) in [
            (vec!["storm"], vec![0], false),
            (vec!["STORM", "trk"], vec![0], false),
            (vec!["storm", "gull"], vec![], true),
            (vec!["gull"], vec![1, 2, 3], false),
            (vec!["gull_#"], vec![1, 2], false),
            (vec!["gull_*"], vec![1, 2, 3], false),
            (vec!["sfx/*_?.ogg"], vec![1, 2], false),
            (vec!["guul"], vec![1, 2, 3], true),
            (vec!["belll"], vec![4], true),
            (vec!["strom"], vec![0], true),
            // One stem is enough: a storm is stormy.
            (vec!["stormily"], vec![0], true),
        ] {
            let words: Vec<String> = words.into_iter().map(str::to_owned).collect();
            let searched = Query::new(&words).unwrap().search(&names, Some(&sheet));
            let want: Vec<&str> = found.into_iter().map(|at: usize| names[at]).collect();
            assert_eq!(
                (searched.slots.iter().map(String::as_str).collect::<Vec<_>>(), searched.near),
                (want, near),
                "{words:?}"
            );
            let told = words == ["gull_*"];
            assert_eq!(searched.notes.len(), usize::from(told), "{words:?}: {:?}", searched.notes);
        }
        assert!(Query::new(&["a[".to_owned()]).is_err());
    }
}
