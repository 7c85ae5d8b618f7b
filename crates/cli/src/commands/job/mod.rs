//! Jobs: looked at, done, kept in step, packed.

mod files;
pub mod install;
pub mod outlook;
pub mod pack;
pub mod start;
pub mod watch;

use crate::args::Going;
use crate::console::Console;
use crate::failure::Failure;
use deft_needle_audio::observe::Observer;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::install::job::{Ask, Run};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// A job that was opened, and the private folder of what a pack holds.
pub struct Opened {
    pub run: Run,
    _pack: Option<TempDir>,
}

impl Going {
    /// The main root, and others by their names.
    fn roots(&self) -> (Option<PathBuf>, BTreeMap<String, PathBuf>) {
        let mut main = None;
        let mut others = BTreeMap::new();
        for typed in &self.root {
            match typed.split_once('=') {
                Some((name, folder)) if !Path::new(typed).exists() => {
                    others.insert(name.to_owned(), PathBuf::from(folder));
                }
                _ => main = Some(PathBuf::from(typed)),
            }
        }
        (main, others)
    }

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
        let (main, others) = self.roots();
        let ask = Ask {
            root: main.as_deref(),
            others: Some(&others),
            ledger: self.ledger.as_deref(),
            allow_commands: self.allow_commands,
        };
        if Run::is_pack(job) {
            let (run, folder) = Run::of_pack(job, target, ask, observer)?;
            return Ok(Opened {
                run,
                _pack: Some(folder),
            });
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

/// Says so where a disk refuses to sync.
pub fn tell_unsynced(disk: &RealDisk, console: &Console) {
    if disk.refused_to_sync() {
        console.warn(
            "this disk refuses to sync: what was written is safe from a crash, \
             but not from a loss of power",
        );
    }
}
