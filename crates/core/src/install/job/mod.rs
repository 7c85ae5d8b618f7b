//! A whole job: everything is decided and checked first, then all of it is placed, or nothing.

mod carry_out;
mod entries;
mod line;
mod make;
mod outlook;
mod place;
mod spoken;

pub use carry_out::{Installation, Placed, Session};
pub(crate) use carry_out::{finish, now};
pub use entries::EntryLine;
pub use line::{Line, Work};
pub use outlook::{Back, Outlook};

use crate::error::{Error, Result};
use crate::job::{Dealt, Job};
use crate::root::{Asked, Found, Root};
use crate::target::Target;
use deft_needle_audio::Observer;
use place::Ground;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What the user says beside the job sheet.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ask<'a> {
    /// The main root, where it is not the job's.
    pub root: Option<&'a Path>,
    /// Other roots by their names, where they are not the job's.
    pub others: Option<&'a BTreeMap<String, PathBuf>>,
    /// The ledger's folder, where it is not in the root.
    pub ledger: Option<&'a Path>,
    /// Whether a ledger that was made for another place is taken over.
    pub adopt: bool,
    /// Whether outside commands may run.
    pub allow_commands: bool,
}

impl Ask<'_> {
    /// The root of a job, with its other ones.
    fn certain(self, main: &Path, others: &BTreeMap<String, PathBuf>) -> Result<Root> {
        let asked = Asked {
            root: None,
            others: others.clone(),
            ledger: self.ledger.map(Path::to_owned),
            adopt: self.adopt,
        };
        asked.certain(main, Found::Named)
    }
}

/// A job with its target and its roots.
pub struct Run {
    /// The job.
    pub job: Job,
    /// The target.
    pub target: Target,
    /// The main root and its ledger; nothing where a pack is made without a root.
    pub root: Option<Root>,
    /// Where files go.
    ground: Ground,
    /// Clips dealt to slots.
    pub dealt: Dealt,
    allow_commands: bool,
}

impl Run {
    /// Reads a job, its target's sheet and lists, and deals its clips. `speak` makes the clips of prompt
    /// lists.
    ///
    /// # Errors
    /// Sheets that are wrong, roots that are not there or not the target's.
    pub fn open(path: &Path, ask: Ask<'_>, observer: &dyn Observer) -> Result<Self> {
        let job = Job::load(path)?;
        let target = job.target(ask.root, ask.others)?;
        if target.roots.main.is_none() {
            return Err(Error::refused(
                format!("{} does not say where {} is", path.display(), target.sheet.name),
                "write root = 'FOLDER' in it, or name the folder with --root",
            ));
        }
        let mut dealt = job.deal(&target);
        job.speak(&target, ask.allow_commands, &mut dealt, observer)?;
        Self::of_parts(job, target, dealt, ask)
    }

    /// The roots beside the main one, by their names.
    pub fn others(&self) -> &BTreeMap<String, PathBuf> {
        &self.ground.others
    }

    /// A job whose clips are dealt.
    ///
    /// # Errors
    /// Roots that are not there; an overlay that cannot be told.
    pub(crate) fn of_parts(job: Job, target: Target, dealt: Dealt, ask: Ask<'_>) -> Result<Self> {
        let Some(main) = target.roots.main.clone() else {
            return Err(Error::refused("the job has no root", "name it with --root"));
        };
        let others = target.roots.others.iter().map(|(name, folder)| (name.as_str(), folder));
        for (name, folder) in others.chain([("main", &main)]) {
            if !folder.is_dir() {
                return Err(Error::refused(
                    format!("the {name} root {} is not a folder", folder.display()),
                    "check the path in the job sheet; is the card in?",
                ));
            }
        }
        let ground = Ground::of(&job, &target)?;
        Ok(Self {
            root: Some(ask.certain(&main, &ground.others)?),
            ground,
            job,
            target,
            dealt,
            allow_commands: ask.allow_commands,
        })
    }

    /// The same for a pack: no root is needed, and none is looked at.
    ///
    /// # Errors
    /// Sheets that are wrong.
    pub fn without_root(path: &Path, ask: Ask<'_>, observer: &dyn Observer) -> Result<Self> {
        let job = Job::load(path)?;
        let sheet = job.sheet()?;
        // Where its root is at hand all the same, lists in it are read, and stock tells levels.
        let roots = job.roots(&sheet, ask.root, ask.others)?;
        let there = roots.main.as_ref().is_some_and(|main| main.is_dir());
        let roots = if there { roots } else { crate::slots::Roots::default() };
        let target = Target::new(sheet, roots)?;
        let mut dealt = job.deal(&target);
        job.speak(&target, ask.allow_commands, &mut dealt, observer)?;
        let others = &target.roots.others;
        let main = target.roots.main.as_deref();
        let root = main.map(|main| ask.certain(main, others)).transpose()?;
        Ok(Self {
            ground: Ground::slots(),
            job,
            target,
            root,
            dealt,
            allow_commands: ask.allow_commands,
        })
    }
}
