//! The slot of a swap, as a sheet knows it.

use crate::args::Swap;
use crate::failure::Failure;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Edits, Error as AudioError, Facts};
use deft_needle_core::disk::RealDisk;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::install::has_stock;
use deft_needle_core::root::{Root, key_of};
use deft_needle_core::sheet::{Asked, New, Rule};
use deft_needle_core::slots::Roots;
use deft_needle_core::stock::Member;
use deft_needle_core::target::Target;
use std::path::Path;

/// A slot, its rule, and the sheet that says so.
pub struct Aimed {
    target: Target,
    slot: String,
    /// The root that it lies in.
    pub root: Root,
    /// What its file must be.
    pub rule: Rule,
    /// Whether the target takes a file where none is.
    pub takes_new: bool,
    /// What the user has to do once it is in.
    pub after: Option<String>,
}

impl Aimed {
    /// The slot that was typed; `None` where no sheet was named.
    ///
    /// # Errors
    /// A slot in no root of the target, or that the target does not know.
    pub fn of(args: &Swap) -> Result<Option<Self>, Failure> {
        let asked = args.place.asked();
        let Some(mut target) = args.wanted.target_at(&args.slot, asked.root.as_deref())? else {
            return Ok(None);
        };
        let marker = target.sheet.marker.0.first();
        if let (None, Some(marker)) = (&target.roots.main, marker) {
            let (slot, name) = (args.slot.display(), &target.sheet.name);
            return Err(Failure::Core(CoreError::refused(
                format!("{slot} lies in no root of {name}: no folder above it has {}", marker.0),
                "check the path, or name the root with --root",
            )));
        }
        let markers = target.sheet.marker.0.iter();
        let markers: Vec<&str> = markers.map(|marker| marker.0.as_str()).collect();
        let root = asked.of_file(&args.slot, &markers)?;
        if target.roots.main.is_none() {
            // Without markers it is the root that tells where lists are.
            target = Target::new(target.sheet, Roots::main(Some(&root.path)))?;
        }
        let key = key_of(&root.path, &args.slot, &RealDisk::default())?;
        let (slot, aim) = target.aim(key.within())?;
        Ok(Some(Self {
            rule: aim.rule.clone(),
            takes_new: match aim.rule.new {
                New::Never => false,
                New::Listed => target.slots.has(&slot),
                New::Any => true,
            },
            after: target.sheet.after.clone(),
            root,
            slot,
            target,
        }))
    }

    /// The rule, where the slot's format is closed.
    pub fn closed(&self) -> Option<&Rule> {
        (*self.rule.spec.get_ref() == Asked::Opaque).then_some(&self.rule)
    }

    /// What the sheet asks, with what was typed in its place; and what that overrules, in words.
    ///
    /// # Errors
    /// A demand that contradicts itself; those of the ledger.
    pub fn fill_in(
        &self,
        args: &Swap,
        typed: Option<&Demand>,
        edits: &mut Edits,
        facts: &Facts,
    ) -> Result<(Demand, Vec<String>), Failure> {
        let (demand, mut overruled) = args.wanted.demand_for(&self.rule, typed)?;
        let stock = has_stock(&self.root, &self.slot)?;
        let (_, aim) = self.target.aim(&self.slot)?;
        overruled.extend(aim.fill_in(edits, facts, stock));
        Ok((demand, overruled))
    }

    /// Refuses a finished file that falls short of the rule.
    ///
    /// # Errors
    /// [`AudioError::CannotMeet`] with what is short.
    pub fn refuse_short(&self, file: &Path) -> Result<(), Failure> {
        let member = Member::of_file(&self.slot, file)?;
        let report = self.target.check_file(&self.slot, &member);
        let short = report.files.iter().flat_map(|file| &file.shortfalls).next();
        match short {
            None => Ok(()),
            Some(short) => Err(Failure::Audio(AudioError::CannotMeet {
                what: format!("{}: {short}", self.slot),
                instead: "finish the file with the maker's tools as the sheet asks".to_owned(),
            })),
        }
    }
}
