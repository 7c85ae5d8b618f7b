//! What a file must be, and how the clip is read, as typed.

use crate::args::{HeaderKind, Opening, Reading, Tags, Wanted};
use crate::failure::Failure;
use crate::paths::open_clip;
use deft_needle_audio::Spec;
use deft_needle_audio::read::Hints;
use deft_needle_audio::spec::{Chunks, Demand, Header, LoopTags};
use deft_needle_core::sheet::{Rule, Sheet};
use deft_needle_core::slots::Roots;
use deft_needle_core::target::Target;
use std::path::Path;

impl Reading {
    /// As the library takes it; `loop_tags` are names under which a loop may stand.
    pub fn hints(&self, loop_tags: Option<&LoopTags>) -> Hints {
        Hints { raw: self.read_as, loop_tags: loop_tags.cloned() }
    }
}

impl Opening {
    /// As the library takes it.
    pub fn hints(&self) -> Hints {
        self.reading.hints(self.loop_tags.as_ref())
    }
}

impl Wanted {
    /// What is asked, or `None` where nothing is.
    ///
    /// # Errors
    /// A bad spec line, or an unreadable file behind `--like`.
    pub fn demand(&self) -> Result<Option<Demand>, Failure> {
        let mut demand = match (&self.spec, &self.like) {
            (Some(line), _) => Demand::from(line.parse::<Spec>()?),
            (None, Some(file)) => Demand::like(open_clip(file, &Hints::default())?.facts()),
            (None, None) if self.says_something() => Spec::ANY.into(),
            (None, None) => return Ok(None),
        };
        self.adjust(&mut demand);
        demand.validate()?;
        Ok(Some(demand))
    }

    /// The target whose sheet was named.
    ///
    /// # Errors
    /// A sheet or a list that is wrong, a root without the sheet's markers.
    pub fn target(&self, root: Option<&Path>) -> Result<Option<Target>, Failure> {
        let Some(sheet) = &self.target else {
            return Ok(None);
        };
        let sheet = Sheet::find(sheet)?;
        Ok(Some(Target::new(sheet, Roots::main(root))?))
    }

    /// The same for a file or folder of the target's: its root is the named one, else the nearest
    /// folder with the sheet's markers.
    ///
    /// # Errors
    /// As [`Wanted::target`].
    pub fn target_at(&self, path: &Path, named: Option<&Path>) -> Result<Option<Target>, Failure> {
        let Some(sheet) = &self.target else {
            return Ok(None);
        };
        let sheet = Sheet::find(sheet)?;
        let root = Target::root_above(&sheet, path, named);
        Ok(Some(Target::new(sheet, Roots::main(root.as_deref()))?))
    }

    /// What a rule asks, with what was typed in its place; and what that overrules, in words.
    ///
    /// # Errors
    /// A demand that contradicts itself, or names what is not written here.
    pub fn demand_for(
        &self,
        rule: &Rule,
        typed: Option<&Demand>,
    ) -> Result<(Demand, Vec<String>), Failure> {
        let ruled = rule.demand().unwrap_or_else(|| Spec::ANY.into());
        let mut demand = Demand {
            loop_tags: ruled.loop_tags.clone(),
            looped: ruled.looped,
            ..typed.unwrap_or(&ruled).clone()
        };
        self.adjust(&mut demand);
        demand.validate()?;
        let mut overruled = Vec::new();
        let mut note = |option: &str, typed: Option<String>, ruled: Option<String>| {
            if let (Some(typed), Some(ruled)) = (typed, ruled)
                && typed != ruled
            {
                overruled.push(format!("--{option} {typed} instead of the sheet's {ruled}"));
            }
        };
        let line = |demand: &Demand| Some(format!("\"{}\"", demand.specs[0]));
        let option = if self.spec.is_some() { "spec" } else { "like" };
        note(option, typed.and_then(line), line(&ruled));
        let header = |demand: &Demand| demand.header.map(|header| header.to_string());
        note("header", self.header.and(header(&demand)), header(&ruled));
        let block = |demand: &Demand| demand.block_bytes.map(|bytes| bytes.to_string());
        note("block-bytes", self.block_bytes.and(block(&demand)), block(&ruled));
        let names = |demand: &Demand| demand.loop_tags.as_ref().map(|tags| tags.names().join(" "));
        note("loop-tags", self.loop_tags.as_ref().and(names(&demand)), names(&ruled));
        let tags = |demand: &Demand| demand.chunks.map(|chunks| chunks == Chunks::Kept);
        let word = |kept: bool| if kept { "keep" } else { "strip" }.to_owned();
        note("tags", self.tags.and(tags(&demand)).map(word), tags(&ruled).map(word));
        Ok((demand, overruled))
    }

    /// Lets `--header` and `--tags` win over what the demand says so far.
    pub fn adjust(&self, demand: &mut Demand) {
        if let Some(kind) = self.header {
            demand.header = Some(match kind {
                HeaderKind::Plain => Header::Plain,
                HeaderKind::Extensible => Header::Extensible,
            });
        }
        if let Some(tags) = self.tags {
            demand.chunks = Some(match tags {
                Tags::Strip => Chunks::Bare,
                Tags::Keep => Chunks::Kept,
            });
        }
        demand.block_bytes = self.block_bytes.or(demand.block_bytes);
        if self.loop_tags.is_some() {
            demand.loop_tags.clone_from(&self.loop_tags);
        }
    }

    fn says_something(&self) -> bool {
        self.header.is_some()
            || self.tags.is_some()
            || self.block_bytes.is_some()
            || self.loop_tags.is_some()
    }

    /// Whether a spec or a model file was given.
    pub fn names_a_spec(&self) -> bool {
        self.spec.is_some() || self.like.is_some()
    }
}
