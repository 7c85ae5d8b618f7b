//! A target kept in step with its clips and sheets.

use super::{files, install, outlook, tell_unsynced};
use crate::args::Watch;
use crate::console::{BOLD, Console, FAINT, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use deft_needle_audio::Observer;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::install::job::{Run, Session};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

/// How often files are looked at: their stamps alone, so a thousand of them take milliseconds, on every
/// file system and over networks, too.
const LOOK: Duration = Duration::from_millis(20);

/// What is seen of a file; nothing where it is not there.
type Seen = BTreeMap<PathBuf, Option<(SystemTime, u64)>>;

/// Installs, and again on every change, until it is stopped.
pub fn run(args: &Watch, console: &Console) -> Result<Exit, Failure> {
    if Run::is_pack(&args.job) {
        return Err(Failure::usage(
            "a pack does not change",
            "watch a job sheet",
        ));
    }
    if !args.job.is_file() {
        // Nothing is there that could change: it is a wrong name.
        args.going
            .open(&args.job, None, &Progress::new(console, 0))?;
    }
    let stop = Progress::new(console, 0);
    let mut exit = Exit::Done;
    let mut files = vec![args.job.clone()];
    let mut quiet_since = Instant::now();
    let mut seen = Seen::new();
    loop {
        let now = look(&files);
        if now != seen {
            // A file that is still being written is waited for.
            std::thread::sleep(LOOK);
            if look(&files) != now {
                continue;
            }
            let changed = changed(&seen, &now);
            if !seen.is_empty() {
                console.say(paint(FAINT, format!("{} changed", safe(&changed))));
            }
            let used;
            (used, exit) = turn(args, files, console);
            files = used.keys().cloned().collect();
            // What is saved while the job is done must be seen afterwards.
            seen = used
                .into_iter()
                .map(|(path, s)| {
                    let before = now.get(&path).copied().unwrap_or(s);
                    (path, before)
                })
                .collect();
            quiet_since = Instant::now();
        }
        let idle = args
            .idle
            .is_some_and(|idle| quiet_since.elapsed().as_secs_f64() > idle);
        if stop.stopped() || idle {
            console.say(match exit {
                Exit::Done => "no longer watching; the target is in step",
                _ => "no longer watching; what is wrong was not installed",
            });
            return Ok(exit);
        }
        std::thread::sleep(LOOK);
    }
}

fn look(files: &[PathBuf]) -> Seen {
    let stamp = |path: &Path| {
        let found = std::fs::metadata(path).ok()?;
        Some((found.modified().ok()?, found.len()))
    };
    files
        .iter()
        .map(|path| (path.clone(), stamp(path)))
        .collect()
}

fn changed(before: &Seen, now: &Seen) -> String {
    let differs = |(path, stamp): &(&PathBuf, &Option<_>)| before.get(*path) != Some(*stamp);
    let names = now.iter().filter(differs);
    let names = names.filter_map(|(path, _)| path.file_name());
    let names: Vec<_> = names
        .map(|name| name.to_string_lossy().into_owned())
        .take(3)
        .collect();
    names.join(", ")
}

/// Does the job once; what is wrong is said, and the watching goes on. Gives the files to watch from now
/// on, as they were before it, and how it ended.
fn turn(args: &Watch, known: Vec<PathBuf>, console: &Console) -> (Seen, Exit) {
    let progress = Progress::new(console, 0);
    let disk = RealDisk::default();
    let opened = match args.going.open(&args.job, None, &progress) {
        Ok(opened) => opened,
        Err(failure) => {
            console.failure(&failure);
            return (look(&known), failure.exit());
        }
    };
    let files = look(&files::of_job(&opened.run));
    let (name, root) = (opened.run.job.name.clone(), opened.run.root.clone());
    let done = Session::open(opened.run, &disk, &progress).map(|mut session| {
        if session.outlook.faults.is_empty() {
            return session.carry_out(&disk, &progress).map(Ok);
        }
        let exit = outlook::show(&session.run, &mut session.outlook, console);
        Ok(Err(exit))
    });
    let exit = match done.and_then(|done| done) {
        Ok(Ok(done)) => {
            let root = root.as_ref().map(|root| root.path.as_path());
            install::tell(&name, root, &done, console);
            tell_unsynced(&disk, console);
            console.object(|| &done);
            Exit::Done
        }
        Ok(Err(exit)) => exit,
        Err(error) => {
            let failure = Failure::from(error);
            console.failure(&failure);
            failure.exit()
        }
    };
    console.say(format!(
        "watching {} files of {} (Ctrl-C ends it)",
        files.len(),
        paint(BOLD, safe(&name))
    ));
    (files, exit)
}
