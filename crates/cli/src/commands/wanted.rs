//! What a file must be, and how the clip is read, as typed.

use crate::args::{HeaderKind, Reading, Tags, Wanted};
use crate::failure::Failure;
use crate::paths::open_clip;
use deft_needle_audio::Spec;
use deft_needle_audio::read::Hints;
use deft_needle_audio::spec::{Chunks, Demand, Header};

impl Reading {
    /// As the library takes it.
    pub fn hints(&self) -> Hints {
        Hints {
            raw: self.read_as,
            loop_tags: None,
        }
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
