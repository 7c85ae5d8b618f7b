//! The whole ledger against a model: random sequences of everything that people, targets, thieves and
//! failing disks do to a root. After each step every original is in its place or in an intact kept copy,
//! and at the end a command gives it back.

use super::super::*;
use crate::disk::RealDisk;
use crate::disk::tests::faulty::{CaseBlindDisk, Fault, FaultyDisk, folder};
use crate::hash::Hash;
use crate::ledger::record::Installed;
use crate::ledger::state::State;
use crate::root::{Found, RootAsk};
use crate::run::{Changed, Which, restore};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::sync::Arc;
use tempfile::TempDir;

/// Names of slots; two differ in nothing but case, where the disk does not tell them apart.
const SLOTS: [&str; 6] =
    ["SAY/A.PRM", "SAY/B.PRM", "TOP.PRM", "say/a.prm", "NEW/X.PRM", "o:MIX.PRM"];
/// Slots that hold stock at the beginning.
const STOCKED: [usize; 4] = [0, 1, 2, 5];

/// What happens.
#[derive(Debug, Clone)]
enum Act {
    /// A file of ours is put into slots, by a job or singly; another run may try at the same time.
    Put {
        slots: Vec<usize>,
        contents: u8,
        job: Option<u8>,
    },
    Restore {
        which: Vec<usize>,
        changed: u8,
        job: Option<u8>,
    },
    /// The same, with the program killed or a call failing at some call.
    Struck {
        act: Box<Act>,
        at: usize,
        kill: bool,
    },
    /// Somebody else writes a file.
    Vendor {
        slot: usize,
        contents: u8,
    },
    /// Somebody else removes what lies there, if it is ours.
    Delete {
        slot: usize,
    },
    /// Somebody else spells a name otherwise.
    Respell {
        slot: usize,
    },
    /// One file of the log is damaged.
    Harm {
        twin: bool,
        how: u8,
    },
    /// A folder on the way becomes a link to another one.
    LinkFolder,
    /// Two runs at once.
    TwoAtOnce {
        slots: [usize; 2],
        contents: u8,
    },
    /// The next run of any command.
    Open,
}

fn acts() -> impl Strategy<Value = Vec<Act>> {
    let slots = || prop::collection::vec(0..SLOTS.len(), 1..4);
    let job = || prop::option::of(0u8..3);
    let put = (slots(), any::<u8>(), job()).prop_map(|(slots, contents, job)| Act::Put {
        slots,
        contents,
        job,
    });
    let back =
        (prop::collection::vec(0..SLOTS.len(), 0..3), 0u8..3, prop::option::weighted(0.3, 0u8..3))
            .prop_map(|(which, changed, job)| Act::Restore { which, changed, job });
    let plain = prop_oneof![3 => put, 2 => back].boxed();
    let struck = (plain.clone(), 0usize..70, any::<bool>())
        .prop_map(|(act, at, kill)| Act::Struck { act: Box::new(act), at, kill });
    let act = prop_oneof![
        4 => plain,
        4 => struck,
        2 => (0..SLOTS.len(), any::<u8>()).prop_map(|(slot, contents)| Act::Vendor { slot, contents }),
        1 => (0..SLOTS.len()).prop_map(|slot| Act::Delete { slot }),
        1 => (0..SLOTS.len()).prop_map(|slot| Act::Respell { slot }),
        2 => (any::<bool>(), any::<u8>()).prop_map(|(twin, how)| Act::Harm { twin, how }),
        1 => Just(Act::LinkFolder),
        1 => (slots(), any::<u8>()).prop_map(|(slots, contents)| Act::TwoAtOnce {
            slots: [slots[0], *slots.last().unwrap()],
            contents,
        }),
        1 => Just(Act::Open),
    ];
    prop::collection::vec(act, 1..12)
}

/// A root, and what somebody other than us has put there.
struct Model {
    folder: TempDir,
    blind: bool,
    /// Contents that must not get lost, by the slots that they were in.
    precious: BTreeMap<Vec<u8>, Vec<usize>>,
}

impl Model {
    fn new(blind: bool) -> Self {
        let mut model = Self { folder: folder(), blind, precious: BTreeMap::new() };
        for folder in ["card/SAY", "other"] {
            fs::create_dir_all(model.folder.path().join(folder)).unwrap();
        }
        for slot in STOCKED {
            model.write(slot, format!("stock of {}", SLOTS[slot]).into_bytes());
        }
        model
    }

    fn root(&self) -> Root {
        let asked = RootAsk {
            others: BTreeMap::from([("o".to_owned(), self.folder.path().join("other"))]),
            ..RootAsk::default()
        };
        let mut root = asked.certain(&self.folder.path().join("card"), Found::Named).unwrap();
        root.registry = crate::root::Registry::in_folder(&self.folder.path().join("roots"));
        root
    }

    fn disk(&self) -> Arc<dyn Disk + Send + Sync> {
        match self.blind {
            true => Arc::new(CaseBlindDisk),
            false => Arc::new(RealDisk::default()),
        }
    }

    /// Where a slot's file is, by the name that the disk spells.
    fn path(&self, slot: usize) -> Option<PathBuf> {
        let key = Key::parse(SLOTS[slot]).unwrap();
        let root = match key.root() {
            Some(_) => self.folder.path().join("other"),
            None => self.folder.path().join("card"),
        };
        Some(look(&root, key.within(), &*self.disk()).ok()?.path)
    }

    /// Somebody else writes.
    fn write(&mut self, slot: usize, bytes: Vec<u8>) {
        let Some(path) = self.path(slot) else { return };
        if path.parent().is_some_and(Path::is_dir) && !path.is_dir() {
            // What lay there is gone by somebody else's doing, unless we keep it.
            if let Ok(before) = fs::read(&path) {
                self.no_longer(&before);
            }
            fs::write(&path, &bytes).unwrap();
            self.precious.entry(bytes).or_default().push(slot);
        }
    }

    /// Contents that somebody else has destroyed are not ours to keep, unless the ledger counts them as
    /// stock already: a copy that an interrupted change has taken is none yet.
    fn no_longer(&mut self, bytes: &[u8]) {
        let state = Ledger::peek(&self.root()).unwrap_or_default();
        let is_kept = state.kept().contains(&Hash::of(bytes));
        if !is_kept && !self.elsewhere(bytes) {
            self.precious.remove(bytes);
        }
    }

    fn elsewhere(&self, bytes: &[u8]) -> bool {
        let places = (0..SLOTS.len()).filter_map(|slot| self.path(slot));
        let places: BTreeSet<PathBuf> = places.collect();
        let holds = |path: &&PathBuf| fs::read(path).is_ok_and(|found| found == bytes);
        places.iter().filter(holds).count() > 1
    }

    fn put(&self, slots: &[usize], contents: u8, job: Option<u8>, disk: &dyn Disk) -> Result<()> {
        let mut ledger = Ledger::open(&self.root(), disk)?;
        let mut keys = Vec::new();
        for slot in slots {
            let typed = Key::parse(SLOTS[*slot])?;
            let key = ledger.key(typed.root(), typed.within())?;
            if !keys.contains(&key) {
                keys.push(key);
            }
        }
        let mut change = ledger.begin(What::Install, &keys, Vec::new(), Vec::new())?;
        for key in &keys {
            let bytes = ours(key, contents);
            crate::disk::write_part(&change.part(key)?, &bytes, disk)?;
            change.install(key, Hash::of(&bytes), installed(job), None)?;
        }
        change.finish()
    }

    fn restore(
        &self,
        which: &[usize],
        changed: u8,
        job: Option<u8>,
        disk: &dyn Disk,
    ) -> Result<()> {
        let root = self.root();
        let state = Ledger::peek(&root)?;
        let key = |slot: &usize| {
            let typed = Key::parse(SLOTS[*slot]).ok()?;
            state.key(&root.path, typed.root(), typed.within(), disk).ok()
        };
        let keys: Vec<Key> = which.iter().filter_map(key).collect();
        let name = job.map(|job| format!("job{job}"));
        let which = match (&name, keys.as_slice()) {
            (Some(name), _) => Which::Job(name),
            (None, []) => Which::All,
            (None, keys) => Which::Slots(keys),
        };
        let changed = [Changed::Refuse, Changed::Overwrite, Changed::Keep][usize::from(changed)];
        restore(&root, which, changed, false, disk).map(drop)
    }

    fn plain(&self, act: &Act, disk: &dyn Disk) {
        let _ = match act {
            Act::Put { slots, contents, job } => self.put(slots, *contents, *job, disk),
            Act::Restore { which, changed, job } => self.restore(which, *changed, *job, disk),
            _ => Ok(()),
        };
    }

    fn act(&mut self, act: &Act) {
        let disk = self.disk();
        match act {
            Act::Put { .. } | Act::Restore { .. } => self.plain(act, &*disk),
            Act::Struck { act, at, kill } => {
                let fault = if *kill { Fault::Kill } else { Fault::Error };
                self.plain(act, &FaultyDisk::new(disk, *at, fault));
            }
            Act::Vendor { slot, contents } => {
                self.write(*slot, format!("vendor {contents} of {slot}").into_bytes());
            }
            Act::Delete { slot } => {
                let Some(path) = self.path(*slot).filter(|path| path.is_file()) else {
                    return;
                };
                let bytes = fs::read(&path).unwrap();
                self.no_longer(&bytes);
                fs::remove_file(path).unwrap();
            }
            Act::Respell { slot } => {
                let Some(path) = self.path(*slot).filter(|path| path.is_file()) else {
                    return;
                };
                let name = path.file_name().unwrap().to_string_lossy();
                let other = match name.chars().any(char::is_uppercase) {
                    true => name.to_lowercase(),
                    false => name.to_uppercase(),
                };
                let to = path.with_file_name(other);
                if self.blind && !to.exists() {
                    fs::rename(path, to).unwrap();
                }
            }
            Act::Harm { twin, how } => self.harm(*twin, *how),
            Act::LinkFolder => {
                let (say, away) =
                    (self.folder.path().join("card/SAY"), self.folder.path().join("away"));
                if say.is_dir() && fs::rename(&say, &away).is_ok() {
                    let outside = self.folder.path().join("outside");
                    fs::create_dir_all(&outside).unwrap();
                    fs::write(outside.join("A.PRM"), b"precious").unwrap();
                    #[cfg(unix)]
                    std::os::unix::fs::symlink(&outside, &say).unwrap();
                    self.plain(&Act::Put { slots: vec![0], contents: 1, job: None }, &*disk);
                    self.plain(&Act::Restore { which: vec![], changed: 1, job: None }, &*disk);
                    assert_eq!(fs::read(outside.join("A.PRM")).unwrap(), b"precious");
                    assert_eq!(fs::read_dir(&outside).unwrap().count(), 1);
                    #[cfg(unix)]
                    fs::remove_file(&say).unwrap();
                    fs::rename(&away, &say).unwrap();
                }
            }
            Act::TwoAtOnce { slots, contents } => {
                std::thread::scope(|scope| {
                    for slot in slots {
                        let (model, disk) = (&*self, &disk);
                        scope.spawn(move || {
                            let _ = model.put(&[*slot], *contents, None, &**disk);
                        });
                    }
                });
            }
            Act::Open => drop(Ledger::open(&self.root(), &*disk)),
        }
    }

    /// Damages one file of the log, whose other one is whole.
    fn harm(&self, twin: bool, how: u8) {
        let disk = self.disk();
        // Otherwise both would be damaged in the end, which is what a rescue is for.
        if Ledger::open(&self.root(), &*disk).is_err() {
            return;
        }
        let ledger = self.root().ledger;
        let path = ledger.join(if twin { "stock/ledger.log" } else { "ledger.log" });
        let Ok(mut bytes) = fs::read(&path) else {
            return;
        };
        match how % 5 {
            0 => return fs::remove_file(&path).unwrap(),
            1 => bytes.truncate(bytes.len() * usize::from(how) / 256),
            2 => bytes = b"garbage\n".repeat(usize::from(how)),
            3 => bytes = vec![0; usize::from(how)],
            _ => {
                let at = bytes.len() * usize::from(how) / 256;
                if let Some(byte) = bytes.get_mut(at) {
                    *byte ^= 1;
                }
            }
        }
        fs::write(path, bytes).unwrap();
    }

    /// Every original is in its place or in an intact kept copy.
    fn check(&self, after: &str) {
        for (bytes, slots) in &self.precious {
            let places = slots.iter().filter_map(|slot| self.path(*slot));
            let mut places = places.chain([kept_in(&self.root().ledger, Hash::of(bytes))]);
            let found = places.any(|path| fs::read(path).is_ok_and(|found| found == *bytes));
            let shown = String::from_utf8_lossy(bytes);
            assert!(found, "\"{shown}\" is lost after {after}");
        }
    }

    /// In the end a restore brings back what the ledger calls stock, and nothing of ours lies about.
    fn end(&self) {
        let disk = self.disk();
        let root = self.root();
        drop(Ledger::open(&root, &*disk).unwrap());
        let state: State = Ledger::peek(&root).unwrap();
        let done = restore(&root, Which::All, Changed::Overwrite, false, &*disk).unwrap();
        assert!(done.failed.is_empty(), "{:?}", done.failed);
        for (key, slot) in &state.slots {
            let (Some(_), Some(original)) = (slot.top(), slot.original()) else {
                continue;
            };
            let folder = state.root_of(&root.path, key).unwrap();
            let place = look(&folder, key.within(), &*disk).unwrap();
            assert_eq!(held_of(&place).unwrap(), original, "{key}");
        }
        self.check("the last restore");
        for entry in walkdir::WalkDir::new(self.folder.path()).into_iter().flatten() {
            let name = entry.file_name().to_string_lossy();
            assert!(!name.starts_with(PART), "{} is left", entry.path().display());
            let bytes = fs::read(entry.path()).unwrap_or_default();
            let is_ours = bytes.starts_with(b"ours ");
            let in_ledger = entry.path().starts_with(&root.ledger);
            assert!(!is_ours || in_ledger, "{} is still ours", entry.path().display());
        }
    }
}

fn ours(key: &Key, contents: u8) -> Vec<u8> {
    format!("ours {contents} for {key}").into_bytes()
}

fn installed(job: Option<u8>) -> Installed {
    Installed {
        clip: "clip".to_owned(),
        spec: "opaque".to_owned(),
        job: job.map(|job| format!("job{job}")),
        ..Installed::default()
    }
}

/// How many sequences: 1,000, or as `DEFT_NEEDLE_SEQUENCES` says.
pub(super) fn sequences() -> u32 {
    let asked = std::env::var("DEFT_NEEDLE_SEQUENCES").ok();
    asked.and_then(|text| text.parse().ok()).unwrap_or(1_000)
}

fn run(blind: bool) {
    let config = Config { cases: sequences() / 2, failure_persistence: None, ..Config::default() };
    let tried = TestRunner::new(config).run(&acts(), |acts| {
        let mut model = Model::new(blind);
        model.check("nothing");
        for act in &acts {
            model.act(act);
            model.check(&format!("{act:?}"));
        }
        model.end();
        Ok(())
    });
    if let Err(error) = tried {
        panic!("{error}");
    }
}

#[test]
fn no_original_is_lost_whatever_happens() {
    run(false);
}

#[test]
fn nor_where_the_disk_ignores_case() {
    run(true);
}

/// A ledger is taken out: one file of its log goes, the other one stays, and the run goes on. Both must be
/// whole before anything more is written.
#[test]
fn a_log_that_went_by_half_is_whole_again() {
    let put = || Act::Put { slots: vec![0], contents: 0, job: None };
    let mut model = Model::new(true);
    model.act(&Act::Struck { act: Box::new(put()), at: 11, kill: true });
    model.act(&Act::Struck { act: Box::new(put()), at: 2, kill: false });
    let ledger = model.root().ledger;
    let [log, twin] = ["ledger.log", "stock/ledger.log"].map(|name| fs::read(ledger.join(name)));
    assert_eq!(String::from_utf8_lossy(&log.unwrap()), String::from_utf8_lossy(&twin.unwrap()));
    model.act(&Act::Harm { twin: true, how: 0 });
    model.check("the harm");
    model.end();
}

/// A file that lacks its first records is written from nothing, out of the other one.
#[test]
fn a_log_without_its_first_records_is_healed() {
    for lacking in ["ledger.log", "stock/ledger.log"] {
        let mut model = Model::new(false);
        model.act(&Act::Put { slots: vec![0, 1], contents: 1, job: None });
        let ledger = model.root().ledger;
        let whole = fs::read_to_string(ledger.join(lacking)).unwrap();
        let cut: String = whole.split_inclusive('\n').skip(2).collect();
        fs::write(ledger.join(lacking), cut).unwrap();
        drop(Ledger::open(&model.root(), &*model.disk()).unwrap());
        assert_eq!(fs::read_to_string(ledger.join(lacking)).unwrap(), whole, "{lacking}");
        model.end();
    }
}

/// One file of the log is damaged before its end, the other one lacks the last records: whichever call the
/// healing dies at, nothing that only one of them holds is cut off.
#[test]
fn healing_never_cuts_what_only_one_file_holds() {
    for at in 1..10 {
        let mut model = Model::new(false);
        model.act(&Act::Put { slots: vec![0, 1], contents: 1, job: None });
        let root = model.root();
        let [log, twin] = ["ledger.log", "stock/ledger.log"].map(|name| root.ledger.join(name));
        let whole = fs::read_to_string(&log).unwrap();
        fs::write(&log, whole.replacen("\"n\":1", "\"n\":7", 1)).unwrap();
        let short: String = whole.split_inclusive('\n').take(2).collect();
        fs::write(&twin, short).unwrap();
        let next = Act::Put { slots: vec![2], contents: 2, job: None };
        model.act(&Act::Struck { act: Box::new(next), at, kill: true });
        model.check(&format!("a kill at call {at}"));
        drop(Ledger::open(&model.root(), &*model.disk()).unwrap());
        let now = [&log, &twin].map(|path| fs::read_to_string(path).unwrap());
        assert!(now[0] == now[1] && now[0].starts_with(&whole), "{at}: {}", now[0]);
        model.end();
    }
}

/// An install is killed after a file of it was put in place, somebody deletes that file, and the run that would roll
/// back is killed, too: what that one left of a part keeps no later one from the rest.
#[test]
fn a_roll_back_that_was_killed_is_done_by_the_next_run() {
    let put = || Box::new(Act::Put { slots: vec![0, 1], contents: 1, job: None });
    for (at, again) in (15..60).flat_map(|at| (1..12).map(move |again| (at, again))) {
        let mut model = Model::new(false);
        model.act(&Act::Struck { act: put(), at, kill: true });
        model.act(&Act::Delete { slot: 0 });
        model.act(&Act::Struck { act: put(), at: again, kill: true });
        model.check(&format!("kills at calls {at} and {again}"));
        model.end();
    }
}

/// A restore over a file of somebody else's dies, and the next run finds a link where the folder was: it
/// cannot tell what the slot holds, so it forgets no copy.
#[test]
fn what_a_restore_put_aside_stays_where_nobody_can_look() {
    for at in 0..70 {
        let mut model = Model::new(false);
        model.act(&Act::Put { slots: vec![0, 1, 2], contents: 0, job: None });
        model.act(&Act::Vendor { slot: 0, contents: 0 });
        let back = Act::Restore { which: vec![], changed: 1, job: None };
        model.act(&Act::Struck { act: Box::new(back), at, kill: true });
        model.act(&Act::LinkFolder);
        model.check(&format!("a kill at call {at}"));
        model.end();
    }
}
