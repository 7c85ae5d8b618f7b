//! A target kept in step with its clips and sheets.

use super::{files, install, plan, tell_unsynced};
use crate::args::Watch;
use crate::commands::proof;
use crate::console::{BOLD, Console, FAINT, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::{extension, shown};
use crate::progress::Progress;
use deft_needle_audio::clip::Note;
use deft_needle_audio::spec::Container;
use deft_needle_audio::{Clip, Observer};
use deft_needle_core::disk::RealDisk;
use deft_needle_core::run::{Run, Session};
use notify::{Event, RecursiveMode, Watcher};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender};
use std::time::{Duration, Instant, SystemTime};

/// How often a change is waited for before Ctrl-C and the end of idling are looked at.
const LOOK: Duration = Duration::from_millis(100);
/// How long files must be quiet before they count as saved.
const QUIET: Duration = Duration::from_millis(60);
/// How long a clip that is shorter than its header says is waited for; then it is taken for one that is
/// damaged, and told.
const PATIENCE: Duration = Duration::from_secs(10);
/// Drives over a network may tell nothing at all: so often files are looked at in any case.
const LONGEST: Duration = Duration::from_secs(2);
/// How often time stamps are compared where the system does not tell of changes.
const POLL: Duration = Duration::from_secs(1);

/// Bytes of sounds that go into a page that is written at each turn.
const INLINE: u64 = 32 << 20;

/// What is seen of a file; nothing where it is not there.
type Seen = BTreeMap<PathBuf, Option<(SystemTime, u64)>>;

/// Installs, and again on every change, until it is stopped.
pub fn run(args: &Watch, console: &Console) -> Result<Exit, Failure> {
    if Run::is_pack(&args.job) {
        return Err(Failure::usage("a pack does not change", "watch a job sheet"));
    }
    if let Some(page) = &args.proof {
        proof::refuse_foreign(&[&args.job], page, false)?;
    }
    if !args.job.is_file() {
        // Nothing is there that could change: it is a wrong name.
        args.going.open(&args.job, None, &Progress::new(console, "planning", 0))?;
    }
    let stop = Progress::new(console, "waiting", 0);
    let mut exit = Exit::Done;
    let mut files = vec![args.job.clone()];
    let mut quiet_since = Instant::now();
    let mut seen = Seen::new();
    let mut news = News::new();
    loop {
        news.follow(&files);
        if look(&files) != seen {
            let Some(now) = settled(&files, &stop) else {
                continue;
            };
            let changed = changed(&seen, &now);
            if !seen.is_empty() {
                console.say(paint(FAINT, format!("{} changed", safe(&changed))));
            }
            let used;
            (used, exit) = turn(args, files, console);
            if let Some(page) = &args.proof {
                prove(args, page, console);
            }
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
            continue;
        }
        let idle = args.idle.is_some_and(|idle| quiet_since.elapsed().as_secs_f64() > idle);
        if stop.stopped() || idle {
            console.say(match exit {
                Exit::Done => "no longer watching; the target is in step",
                _ => "no longer watching; what is wrong was not installed",
            });
            return Ok(exit);
        }
        // Nothing is looked at until something has happened.
        let waiting = Instant::now();
        while !news.wait() && !stop.stopped() && waiting.elapsed() < LONGEST {
            let idle = args.idle.map(Duration::from_secs_f64);
            if idle.is_some_and(|idle| quiet_since.elapsed() > idle) {
                break;
            }
        }
    }
}

/// Writes the page anew; what keeps it from being written is told, and keeps nothing else from going on.
fn prove(args: &Watch, page: &Path, console: &Console) {
    let progress = Progress::new(console, "drawing", 0);
    let made = || -> Result<(), Failure> {
        let opened = args.going.open(&args.job, None, &progress)?;
        let turn = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH);
        let turn = turn.map_or(0, |past| u64::try_from(past.as_millis()).unwrap_or(0));
        proof::refuse_foreign(&[&args.job], page, false)?;
        proof::of_job(opened, &progress)?.write(page, INLINE, Some(turn), &progress)?;
        Ok(())
    };
    match made() {
        Ok(()) => console.say(paint(FAINT, format!("{} written", safe(&shown(page))))),
        Err(failure) => console.failure(&failure),
    }
}

/// The files once nobody writes to them any more and every clip is as long as its header says; `None`
/// where it is to be stopped.
fn settled(files: &[PathBuf], stop: &Progress) -> Option<Seen> {
    let began = Instant::now();
    let mut before = look(files);
    loop {
        std::thread::sleep(QUIET);
        if stop.stopped() {
            return Some(before);
        }
        let now = look(files);
        let is_quiet = now == before;
        before = now;
        if is_quiet && (began.elapsed() > PATIENCE || !files.iter().any(|file| is_partial(file))) {
            return Some(before);
        }
    }
}

/// Whether a sound is still shorter than its header promises.
fn is_partial(file: &Path) -> bool {
    let is_sound = Container::from_extension(&extension(file)).is_some();
    is_sound
        && match Clip::open(file) {
            Ok(clip) => {
                clip.facts().notes.iter().any(|note| matches!(note, Note::Truncated { .. }))
            }
            Err(_) => file.is_file(),
        }
}

/// News of changed files: the system's, or where it gives none, from comparing time stamps.
struct News {
    watcher: Option<Box<dyn Watcher>>,
    heard: Receiver<()>,
    folders: BTreeSet<PathBuf>,
}

impl News {
    fn new() -> Self {
        let (tell, heard) = std::sync::mpsc::channel();
        let told = tell.clone();
        let hear = move |event: notify::Result<Event>| {
            if !event.is_ok_and(|event| event.kind.is_access()) {
                let _ = told.send(());
            }
        };
        let system = notify::recommended_watcher(hear);
        let watcher: Option<Box<dyn Watcher>> = match system {
            Ok(watcher) => Some(Box::new(watcher)),
            Err(_) => polling(tell),
        };
        Self { watcher, heard, folders: BTreeSet::new() }
    }

    /// Watches the folders of these files: editors put a new file in an old one's place.
    fn follow(&mut self, files: &[PathBuf]) {
        let folder = |file: &PathBuf| match file.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
            _ => PathBuf::from("."),
        };
        for folder in files.iter().map(folder).collect::<BTreeSet<_>>() {
            if !folder.is_dir() || self.folders.contains(&folder) {
                continue;
            }
            let Some(watcher) = &mut self.watcher else {
                continue;
            };
            if watcher.watch(&folder, RecursiveMode::NonRecursive).is_err() {
                self.poll();
                return self.follow(files);
            }
            self.folders.insert(folder);
        }
    }

    /// Falls back to comparing time stamps, as on drives over a network.
    fn poll(&mut self) {
        let (tell, heard) = std::sync::mpsc::channel();
        self.watcher = polling(tell);
        self.heard = heard;
        self.folders.clear();
    }

    /// Waits a while; whether something has happened.
    fn wait(&self) -> bool {
        if self.watcher.is_none() {
            std::thread::sleep(LOOK);
            return false;
        }
        let heard = self.heard.recv_timeout(LOOK).is_ok();
        while self.heard.try_recv().is_ok() {}
        heard
    }
}

fn polling(tell: Sender<()>) -> Option<Box<dyn Watcher>> {
    let hear = move |_: notify::Result<Event>| {
        let _ = tell.send(());
    };
    let config = notify::Config::default().with_poll_interval(POLL);
    let watcher = notify::PollWatcher::new(hear, config).ok()?;
    Some(Box::new(watcher))
}

fn look(files: &[PathBuf]) -> Seen {
    let stamp = |path: &Path| {
        let found = std::fs::metadata(path).ok()?;
        Some((found.modified().ok()?, found.len()))
    };
    files.iter().map(|path| (path.clone(), stamp(path))).collect()
}

fn changed(before: &Seen, now: &Seen) -> String {
    let differs = |(path, stamp): &(&PathBuf, &Option<_>)| before.get(*path) != Some(*stamp);
    let names = now.iter().filter(differs);
    let names = names.filter_map(|(path, _)| path.file_name());
    let names: Vec<_> = names.map(|name| name.to_string_lossy().into_owned()).take(3).collect();
    names.join(", ")
}

/// Does the job once; what is wrong is said, and the watching goes on. Gives the files to watch from now
/// on, as they were before it, and how it ended.
fn turn(args: &Watch, known: Vec<PathBuf>, console: &Console) -> (Seen, Exit) {
    let progress = Progress::new(console, "planning", 0);
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
    let done = Session::open(opened.run, &disk, &progress).map(|session| {
        if session.run.faults(&session.plan).next().is_none() {
            return session.carry_out(&disk, &progress).map(Ok);
        }
        Ok(Err(plan::show(&session.run, &session.plan, console)))
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
