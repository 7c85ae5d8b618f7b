//! Encoding by a command of the user's, for targets whose format is closed.

use crate::args::Outside;
use crate::console::Console;
use crate::failure::Failure;
use crate::progress::Progress;
use deft_needle_audio::plan::{Reference, plan_clip};
use deft_needle_audio::read::Private;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::write::Out;
use deft_needle_audio::{Clip, Edits, Error as AudioError, Plan};
use deft_needle_core::disk::{Disk, RealDisk};
use deft_needle_core::encoder::{Encoder, feed as encoder_feed, private_folder, words};
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::fit::{Durable, put_file, refuse_existing, write_verified};
use deft_needle_core::sheet::Rule;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// What the command made, in a private folder that goes with it.
pub struct Made {
    /// What was fed to the command.
    pub plan: Plan,
    /// The file.
    pub file: PathBuf,
    _folder: Private,
}

impl Outside {
    /// The encoder that was typed or that the rule of a closed format names, and what it is fed;
    /// `None` where neither is.
    ///
    /// # Errors
    /// Commands that are not allowed, or lack their places; a closed format without a command.
    fn encoder(&self, rule: Option<&Rule>) -> Result<Option<(Encoder, Demand)>, Failure> {
        let ruled = rule.and_then(|rule| rule.encoder.as_ref());
        let (command, feed, seconds) = match (&self.encoder, ruled) {
            (Some(line), _) => (words(line), &self.feed, self.encoder_limit),
            (None, Some(ruled)) => (ruled.command.clone(), &ruled.feed, ruled.seconds),
            (None, None) if rule.is_some() => return Err(closed()),
            (None, None) => return Ok(None),
        };
        let line = command.join(" ");
        if !self.allow_commands {
            return Err(Failure::Core(CoreError::refused(
                format!("this would run: {line}"),
                "say --allow-commands if you trust it",
            )));
        }
        let limit = Duration::from_secs(seconds);
        let encoder = Encoder::new(command, limit)
            .map_err(|what| Failure::usage(what, "as in --encoder \"bankmaker -q {in} {out}\""))?;
        Ok(Some((encoder, encoder_feed(feed)?)))
    }

    /// What would be fed to the command; `None` where no encoder is named. Nothing is run.
    ///
    /// # Errors
    /// Those of planning.
    pub fn plan(
        &self,
        clip: &Clip,
        edits: &Edits,
        rule: Option<&Rule>,
        console: &Console,
    ) -> Result<Option<Plan>, Failure> {
        let Some((_, demand)) = self.encoder(rule)? else {
            return Ok(None);
        };
        feed(clip, edits, &demand, console).map(Some)
    }

    /// Fits the clip to the feed, and has the command turn that into its own format; `None` where no
    /// encoder is named.
    ///
    /// # Errors
    /// Those of fitting, and of the command.
    pub fn make(
        &self,
        clip: &Clip,
        edits: &Edits,
        rule: Option<&Rule>,
        console: &Console,
    ) -> Result<Option<Made>, Failure> {
        let Some((encoder, demand)) = self.encoder(rule)? else {
            return Ok(None);
        };
        let plan = feed(clip, edits, &demand, console)?;
        let progress = Progress::new(console, plan.to.frames);
        let folder = private_folder()?;
        let extension = plan.to.format.container.facts().extensions[0];
        let input = folder.path().join(format!("in.{extension}"));
        let file = folder.path().join("out");
        let disk = RealDisk::default();
        write_verified(clip, &plan, &input, Durable::No, None, &disk, &progress)?;
        encoder.run(&input, &file, &progress)?;
        drop(progress);
        Ok(Some(Made { plan, file, _folder: folder }))
    }
}

/// A closed format and no command for it.
fn closed() -> Failure {
    AudioError::CannotMeet {
        what: "this slot's format is closed: no spec line tells what it must be".to_owned(),
        instead:
            "name the maker's encoder with --encoder, or place a finished file with swap --as-is"
                .to_owned(),
    }
    .into()
}

fn feed(clip: &Clip, edits: &Edits, demand: &Demand, console: &Console) -> Result<Plan, Failure> {
    let progress = Progress::new(console, clip.facts().frames);
    Ok(plan_clip(clip, demand, edits, Reference::default(), &progress)?)
}

impl Made {
    /// Puts the file at `out`.
    ///
    /// # Errors
    /// Where a file would be lost, or cannot be written.
    pub fn put(
        &self,
        clip: &Clip,
        out: &Path,
        overwrite: bool,
        disk: &dyn Disk,
    ) -> Result<u64, Failure> {
        refuse_existing(&[clip], out, overwrite)?;
        let read = |source| AudioError::Read { path: self.file.clone(), source };
        let make = |to: &mut dyn Out| {
            let mut from = File::open(&self.file).map_err(read)?;
            io::copy(&mut from, to).map_err(AudioError::Write)
        };
        let prove = |path: &Path, copied: &u64| match std::fs::metadata(path) {
            Ok(found) if found.len() == *copied => Ok(()),
            _ => Err(AudioError::Verify {
                what: "it is of another length than what the encoder made".to_owned(),
            }),
        };
        let (bytes, ()) = put_file(out, disk, make, prove)?;
        Ok(bytes)
    }
}
