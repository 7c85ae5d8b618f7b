//! What is asked of one clip and its file, as values, and by which options it was said.

use super::options::{OPTIONS, OptionRow, option};
use super::{Edits, Level};
use crate::error::Result;
use crate::invalid::Invalid;
use crate::read::Hints;
use crate::spec::{Chunks, Demand, Format, Header, LoopTags, Spec};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// What is asked of one clip and its file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Request {
    /// What is done to the clip.
    pub edits: Edits,
    /// What the file must be, where that is said against whatever else tells.
    pub spec: Option<Spec>,
    /// The kind of WAV header.
    pub header: Option<Header>,
    /// What may be in the file besides the samples.
    pub chunks: Option<Chunks>,
    /// Bytes of an ADPCM block.
    pub block_bytes: Option<u32>,
    /// Names of a loop's tags.
    pub loop_tags: Option<LoopTags>,
    /// How a clip without a header is read.
    pub read_as: Option<Format>,
    /// Whether it is played backwards.
    pub reverse: bool,
    said: Vec<(&'static str, String)>,
}

/// An option that was said otherwise than a sheet says it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Overruled {
    /// Its name.
    pub option: &'static str,
    /// What was asked.
    pub asked: String,
    /// What the sheet says.
    pub ruled: String,
}

impl Request {
    /// All of these options with their values, in their order; later ones win.
    ///
    /// # Errors
    /// The first value that is wrong; a name that is none.
    pub fn read<'a>(pairs: impl IntoIterator<Item = (&'a str, &'a str)>) -> Result<Self, Invalid> {
        let mut request = Self::default();
        for (name, text) in pairs {
            request.set(name, text)?;
        }
        Ok(request)
    }

    /// Takes one in.
    ///
    /// # Errors
    /// A value that is wrong, a name that is none.
    pub fn set(&mut self, name: &str, text: &str) -> Result<(), Invalid> {
        let Some(row) = option(name) else {
            let names: Vec<&str> = OPTIONS.iter().map(|row| row.name).collect();
            return Err(Invalid::new("option", name, names.join(", ")));
        };
        row.set(self, text)?;
        self.said.push((row.name, text.to_owned()));
        Ok(())
    }

    /// What was said, in its order.
    pub fn said(&self) -> impl Iterator<Item = (&'static str, &str)> {
        self.said.iter().map(|(name, text)| (*name, text.as_str()))
    }

    /// Whether an option was said.
    pub fn says(&self, name: &str) -> bool {
        self.said.iter().any(|(said, _)| *said == name)
    }

    fn last(&self, name: &str) -> Option<&str> {
        let said = self.said.iter().rev().find(|(said, _)| *said == name);
        said.map(|(_, text)| text.as_str())
    }

    /// This request where it says something, and `rule` where it does not. A gain takes the place of a level.
    #[must_use]
    pub fn over(mut self, rule: &Self) -> Self {
        let own = self.clone();
        let is_open = |row: &&OptionRow| match row.name {
            "tag" => rule.says("tag"),
            "level" if own.says("gain") => false,
            name => rule.says(name) && !own.says(name),
        };
        for row in OPTIONS.iter().filter(is_open) {
            row.copy(rule, &mut self);
            let said = rule.said.iter().filter(|(name, _)| *name == row.name);
            self.said.extend(said.cloned());
        }
        self
    }

    /// Takes an option out, as if it had not been said.
    pub fn forget(&mut self, name: &str) {
        if let Some(row) = option(name) {
            row.copy(&Self::default(), self);
            self.said.retain(|(said, _)| *said != row.name);
        }
    }

    /// What this request says otherwise than `rule`.
    pub fn overruled(&self, rule: &Self) -> Vec<Overruled> {
        let differs = |row: &OptionRow| {
            let (asked, ruled) = (self.last(row.name)?, rule.last(row.name)?);
            let differs = asked != ruled && row.name != "tag";
            differs.then(|| Overruled {
                option: row.name,
                asked: asked.to_owned(),
                ruled: ruled.to_owned(),
            })
        };
        OPTIONS.iter().filter_map(differs).collect()
    }

    /// Files that options name lie next to a sheet, in this folder.
    pub fn beside(&mut self, folder: &Path) {
        if let Some(Level::Like(file)) = &mut self.edits.level {
            *file = folder.join(&*file);
        }
    }

    /// What the file must be, where `ruled` is what a sheet or a model asks.
    ///
    /// # Errors
    /// A demand that contradicts itself, or names what is not written here.
    pub fn demand(&self, ruled: Demand) -> Result<Demand> {
        let mut demand = match &self.spec {
            None => ruled,
            Some(spec) => Demand {
                loop_tags: ruled.loop_tags,
                loop_beside: ruled.loop_beside,
                looped: ruled.looped,
                ..Demand::from(spec.clone())
            },
        };
        demand.header = self.header.or(demand.header);
        demand.chunks = self.chunks.or(demand.chunks);
        demand.block_bytes = self.block_bytes.or(demand.block_bytes);
        if self.loop_tags.is_some() {
            demand.loop_tags.clone_from(&self.loop_tags);
        }
        demand.validate()?;
        Ok(demand)
    }

    /// How the clip is read.
    pub fn hints(&self) -> Hints {
        Hints {
            raw: self.read_as,
            loop_tags: self.loop_tags.clone(),
            reverse: self.reverse,
            ..Hints::default()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(pairs: &[(&str, &str)]) -> Request {
        Request::read(pairs.iter().copied()).unwrap()
    }

    #[test]
    fn what_is_said_wins_over_a_rule() {
        let rule = asked(&[("level", "stock"), ("longest", "25s"), ("voicing", "dispatch")]);
        for (own, level, longest, voicing) in [
            (&[][..], true, true, true),
            (&[("level", "keep")], false, true, true),
            (&[("gain", "+7dB")], false, true, true),
            (&[("voicing", "none"), ("longest", "none")], true, false, false),
        ] {
            let edits = asked(own).over(&rule).edits;
            let found = (edits.level.is_some(), edits.longest.is_some(), edits.voicing.is_some());
            assert_eq!(found, (level, longest, voicing), "{own:?}");
        }
        let own = asked(&[("longest", "9s"), ("level", "stock")]);
        let expected = Overruled { option: "longest", asked: "9s".into(), ruled: "25s".into() };
        assert_eq!(own.overruled(&rule), [expected]);
    }

    #[test]
    fn a_typed_spec_keeps_what_a_rule_says_of_loops() {
        let ruled = Demand {
            looped: crate::spec::Looped::Required,
            header: Some(Header::Plain),
            ..Demand::from(Spec::ANY)
        };
        let demand =
            asked(&[("spec", "wav pcm16 any any"), ("tags", "strip")]).demand(ruled).unwrap();
        assert_eq!(demand.looped, crate::spec::Looped::Required);
        assert_eq!((demand.header, demand.chunks), (None, Some(Chunks::Bare)));
    }
}
