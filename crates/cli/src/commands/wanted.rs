//! `--spec`, `--like`, `--header` and `--tags` as one demand.

use crate::args::{HeaderKind, Tags, Wanted};
use crate::failure::Failure;
use crate::paths::open_clip;
use deft_needle_audio::Spec;
use deft_needle_audio::spec::{Chunks, Demand, Header};

impl Wanted {
    /// What is asked, or `None` where nothing is.
    ///
    /// # Errors
    /// A bad spec line, or an unreadable file behind `--like`.
    pub fn demand(&self) -> Result<Option<Demand>, Failure> {
        let mut demand = match (&self.spec, &self.like) {
            (Some(line), _) => Demand::from(line.parse::<Spec>()?),
            (None, Some(file)) => Demand::like(open_clip(file)?.facts()),
            (None, None) if self.header.is_some() || self.tags.is_some() => Spec::ANY.into(),
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
    }

    /// Whether a spec or a model file was given.
    pub fn names_a_spec(&self) -> bool {
        self.spec.is_some() || self.like.is_some()
    }
}
