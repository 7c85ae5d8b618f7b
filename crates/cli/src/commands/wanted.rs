//! What a file must be, as typed.

use crate::args::{Outside, SpecArgs};
use crate::failure::Failure;
use crate::paths::open_clip;
use deft_needle_audio::Spec;
use deft_needle_audio::edit::{Group, OPTIONS, Request};
use deft_needle_audio::read::Hints;
use deft_needle_audio::spec::Demand;
use deft_needle_core::encoder::{Encoder, words};
use deft_needle_core::sheet::{OutsideEncoder, Sheet};
use deft_needle_core::slots::Roots;
use deft_needle_core::target::Target;
use std::path::Path;
use std::time::Duration;

impl SpecArgs {
    /// What the model file asks, where one was named.
    ///
    /// # Errors
    /// As [`open_clip`].
    pub fn model(&self) -> Result<Option<Demand>, Failure> {
        let like = |file| Ok(Demand::like(open_clip(file, &Hints::default())?.facts()));
        self.like.as_deref().map(like).transpose()
    }

    /// What a model file or the options ask of a file; `None` by default.
    ///
    /// # Errors
    /// An unreadable model file, a demand that contradicts itself.
    pub fn demand(&self, request: &Request) -> Result<Option<Demand>, Failure> {
        let spec = OPTIONS.iter().filter(|row| row.group == Group::Spec || row.name == "loop-tags");
        let says = spec.into_iter().any(|row| request.says(row.name));
        match self.model()? {
            Some(like) => Ok(Some(request.demand(like)?)),
            None if says => Ok(Some(request.demand(Spec::ANY.into())?)),
            None => Ok(None),
        }
    }

    /// Whether a spec or a model file was given.
    pub fn names_a_spec(&self, request: &Request) -> bool {
        request.spec.is_some() || self.like.is_some()
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
    /// As [`SpecArgs::target`].
    pub fn target_at(&self, path: &Path, named: Option<&Path>) -> Result<Option<Target>, Failure> {
        let Some(sheet) = &self.target else {
            return Ok(None);
        };
        let sheet = Sheet::find(sheet)?;
        let root = Target::root_above(&sheet, path, named);
        Ok(Some(Target::new(sheet, Roots::main(root.as_deref()))?))
    }
}

impl Outside {
    /// The encoder that was typed.
    ///
    /// # Errors
    /// A command without its places.
    pub fn encoder(&self) -> Result<Option<OutsideEncoder>, Failure> {
        let Some(line) = &self.encoder else {
            return Ok(None);
        };
        let (command, seconds) = (words(line), self.encoder_limit);
        Encoder::new(command.clone(), Duration::from_secs(seconds))
            .map_err(|what| Failure::usage(what, "as in --encoder \"bankmaker -q {in} {out}\""))?;
        Ok(Some(OutsideEncoder { command, feed: self.feed.clone(), seconds }))
    }
}
