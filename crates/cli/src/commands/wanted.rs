//! What a file must be, as typed.

use crate::args::{OfTarget, Outside, SpecArgs};
use crate::failure::Failure;
use crate::paths::open_clip;
use crate::report::refusal::{Words, odd_text};
use deft_needle_audio::edit::{Group, OPTIONS, Request};
use deft_needle_audio::read::Hints;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Clip, Spec};
use deft_needle_core::disk::same_file;
use deft_needle_core::encoder::{Encoder, words};
use deft_needle_core::root::RootAsk;
use deft_needle_core::root::Roots;
use deft_needle_core::sheet::{OutsideEncoder, Sheet};
use deft_needle_core::target::{Located, Target};
use std::path::{Path, PathBuf};

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
    pub fn target(&self, asked: &RootAsk) -> Result<Option<Target>, Failure> {
        let Some(sheet) = &self.target else {
            return Ok(None);
        };
        let sheet = Sheet::find(sheet)?;
        Ok(Some(Target::new(sheet, asked.roots())?))
    }

    /// The same for a file or folder of the target's: its root is the named one, else the nearest
    /// folder with the sheet's markers.
    ///
    /// # Errors
    /// As [`SpecArgs::target`].
    pub fn target_at(&self, path: &Path, asked: &RootAsk) -> Result<Option<Target>, Failure> {
        let Some(sheet) = &self.target else {
            return Ok(None);
        };
        let sheet = Sheet::find(sheet)?;
        let main = Target::root_above(&sheet, path, &asked.roots());
        Ok(Some(Target::new(sheet, Roots { main, ..asked.roots() })?))
    }
}

/// How files are opened that may belong to a target.
pub struct Opener {
    target: Option<Target>,
    hints: Hints,
}

impl OfTarget {
    /// How to open files, the first of which is `first`; `hints` are what was typed.
    ///
    /// # Errors
    /// As [`SpecArgs::target`].
    pub fn opener(&self, first: &Path, hints: Hints) -> Result<Opener, Failure> {
        let Some(sheet) = &self.target else {
            return Ok(Opener { target: None, hints });
        };
        let (sheet, asked) = (Sheet::find(sheet)?, self.place.asked());
        let here = std::env::current_dir().ok();
        let main = Target::root_above(&sheet, first, &asked.roots()).or(here);
        let target = Target::new(sheet, Roots { main, ..asked.roots() })?;
        Ok(Opener { target: Some(target), hints })
    }
}

impl Opener {
    /// Opens a file, or a slot of the target.
    ///
    /// # Errors
    /// As [`open_clip`].
    pub fn open(&self, file: &Path) -> Result<Clip, Failure> {
        let found = self.target.as_ref().and_then(|target| target.locate(file));
        self.open_found(file, found)
    }

    /// The same of what is to be compared with other files: not the very file that is one of them, but what it covers.
    ///
    /// # Errors
    /// As [`open_clip`].
    pub fn open_beside(&self, file: &Path, others: &[PathBuf]) -> Result<Clip, Failure> {
        let found = self.target.as_ref().and_then(|target| {
            let found = target.locate(file)?;
            match others.iter().any(|other| same_file(other, &found.path)) {
                true => target.locate_stock(file),
                false => Some(found),
            }
        });
        self.open_found(file, found)
    }

    fn open_found(&self, file: &Path, found: Option<Located>) -> Result<Clip, Failure> {
        let Some(found) = found else {
            return open_clip(file, &self.hints);
        };
        let hints = Hints {
            raw: self.hints.raw.or(found.hints.raw),
            loop_tags: self.hints.loop_tags.clone().or(found.hints.loop_tags.clone()),
            ..Hints::default()
        };
        let clip = open_clip(&found.path, &hints)?;
        let beside = found.looped(clip.facts().format.rate);
        match beside {
            None => Ok(clip),
            Some(_) => open_clip(&found.path, &Hints { beside, ..hints }),
        }
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
        let outside = OutsideEncoder {
            command: words(line),
            feed: self.feed.clone(),
            seconds: self.encoder_limit,
            out: self.encoder_out.clone(),
            folder: Some(PathBuf::from(".")),
        };
        Encoder::of_rule(&outside).map_err(|odd| {
            let Words(what, _) = odd_text(&odd.into());
            Failure::usage(what, "as in --encoder \"bankmaker -q {in} {out}\"")
        })?;
        Ok(Some(outside))
    }
}
