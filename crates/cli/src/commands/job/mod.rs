//! Jobs: looked at, done, kept in step, packed.

mod files;
pub mod install;
pub mod pack;
pub mod plan;
pub mod start;
pub mod watch;

use crate::args::Going;
use crate::console::Console;
use crate::failure::Failure;
use crate::progress::Progress;
use deft_needle_audio::observe::Observer;
use deft_needle_audio::read::Private;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::run::{Ask, Installation, Run, Session};
use std::path::Path;

/// A job that was opened, and the private folder of what a pack holds.
pub struct Opened {
    pub run: Run,
    _pack: Option<Private>,
}

impl Going {
    /// Opens a job sheet or a pack.
    ///
    /// # Errors
    /// Whatever keeps it from being read.
    pub fn open(
        &self,
        job: &Path,
        target: Option<&Path>,
        observer: &dyn Observer,
    ) -> Result<Opened, Failure> {
        let asked = self.place.asked();
        let ask = Ask {
            root: asked.root.as_deref(),
            others: Some(&asked.others),
            ledger: asked.ledger.as_deref(),
            adopt: asked.adopt,
            allow_commands: self.allow_commands,
        };
        if Run::is_pack(job) {
            let (run, folder) = Run::of_pack(job, target, ask, observer)?;
            return Ok(Opened { run, _pack: Some(folder) });
        }
        if target.is_some() {
            return Err(Failure::usage(
                "--target is for packs: a job sheet names its target itself",
                "leave it out",
            ));
        }
        let run = Run::open(job, ask, observer)?;
        Ok(Opened { run, _pack: None })
    }
}

/// Works a job out under its ledger's lock, and does it.
///
/// # Errors
/// The first thing that is wrong with it; those of carrying out.
pub fn carry_out(run: Run, disk: &RealDisk, console: &Console) -> Result<Installation, Failure> {
    let progress = Progress::new(console, "planning", 0);
    let session = Session::open(run, disk, &progress)?;
    drop(progress);
    let progress = Progress::new(console, "fitting", session.plan.frames());
    Ok(session.carry_out(disk, &progress)?)
}

/// Says so where a disk refuses to sync.
pub fn tell_unsynced(disk: &RealDisk, console: &Console) {
    if disk.refused_to_sync() {
        console.warn(
            "this disk refuses to sync: what was written is safe from a crash, \
             but not from a loss of power",
        );
    }
}
