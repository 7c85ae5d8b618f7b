//! Jobs whose files are edited rather than replaced, against a model: random histories of jobs, swaps and packs that make
//! entries in lists of every format, replace the same lists whole, bring files beside slots, clear caches and fill an
//! overlay that moves, while
//! people delete, empty, damage, link and edit what lies there, roots move, and disks fail. After each step every
//! original is in its place, or kept where a named command brings it back; in the end those commands do.

use super::super::*;
use crate::disk::RealDisk;
use crate::disk::tests::faulty::{Fault, FaultyDisk, folder};
use crate::hash::Hash;
use crate::root::{Found, RootAsk};
use crate::run::{Ask, Changed, KeptAct, Run, Session, Which, kept, restore};
use deft_needle_audio::observe::Unobserved;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::sync::Arc;
use tempfile::TempDir;

/// Two sheets of one target: what the user's own jobs go by, and a friend's.
const SHEETS: [(&str, &str); 2] = [
    ("own.toml", OWN),
    (
        "friend.toml",
        "name = 'Friend'\nroots = ['game', 'settings']\n\
         [[rule]]\nmatch = '**/*.snd'\nspec = 'opaque'\nnew = 'any'\n\
         [[entry]]\nmatch = '**/*.snd'\nfile = 'names.json'\nat = '/names/-'\nvalue = 'friend {stem}'\norder = 'sorted'\n\
         [[entry]]\nfile = 'deep/kept.lst'\nvalue = 'a friend was here'\n\
         [[entry]]\nfile = 'sfx/a.snd'\nformat = 'script'\nat = '^(stock|clip)'\nput = 'before'\nvalue = 'friend in a sound'\n",
    ),
];

const OWN: &str = r#"
name = 'Own'
roots = ['game', 'settings']
clear = ['**/*.idx', '*.cache']
companions = { match = 'sfx/**', extension = 'lip' }
[[rule]]
match = '**/*.snd'
spec = 'opaque'
new = 'any'
[[rule]]
match = ['*.json', '**/*.lst']
spec = 'opaque'
[[make]]
match = '**/*.snd'
file = 'cards/{stem}.txt'
text = "card of {slot}, {tone}\n"
[[entry]]
match = '**/*.snd'
file = 'names.json'
at = '/names/-'
value = '{stem} {tone}'
[[entry]]
file = 'names.json'
at = '/title'
value = '{tone}'
[[entry]]
match = '**/*.snd'
file = 'deep/kept.lst'
value = '{stem}'
order = 'sorted'
[[entry]]
match = '**/*.snd'
file = 'table.csv'
at = 'name'
value = { name = '{stem}', tone = '{tone}' }
[[entry]]
root = 'settings'
file = 'mix.ini'
at = 'Mixer/Banks'
value = '+{tone}'
separator = ';'
[[entry]]
root = 'settings'
file = 'all.toml'
at = '/bank/tone'
value = '{tone}'
[[entry]]
root = 'settings'
file = 'noises.def'
format = 'script'
at = '  {tone}\n'
value = '{gone}'
[[entry]]
match = 'sfx/a.snd'
root = 'settings'
file = 'noises.def'
format = 'script'
at = '^noise "last"'
put = 'before'
value = 'noise "{stem} {tone}"'
[[entry]]
file = 'tones/{tone}.lst'
value = 'spoken'
[[entry]]
match = '**/*.snd'
file = 'all.plist'
at = '/names/-'
value = '{stem} {tone}'
"#;

/// Files that are there at the beginning, by their roots.
const STOCK: [(&str, &str); 15] = [
    ("game/sfx/a.snd", "stock of a\n"),
    ("game/sfx/b.snd", "stock of b\n"),
    ("game/sfx/a.lip", "lips of the stock of a"),
    (
        "game/names.json",
        "{\n  // kept\n  \"names\": [\"old\", \"one\"],\n  \"title\": \"stock\"\n}\n",
    ),
    ("game/deep/kept.lst", "alpha\r\nomega\r\n"),
    ("game/table.csv", "name,tone\nold,1\n"),
    ("game/tones/low.lst", "first\n"),
    ("game/tones/high.lst", "second"),
    ("game/cards/b.txt", "a card of the target's own\n"),
    (
        "game/all.plist",
        "<?xml version=\"1.0\"?>\n<plist version=\"1.0\"><dict>\n<!-- kept -->\n<key>names</key><array><string>old</string></array>\n</dict></plist>\n",
    ),
    ("settings/mix.ini", "; mine\r\n[Mixer]\r\nBanks = BASE\r\n"),
    ("settings/all.toml", "# all\n[bank]\ntone = \"none\" # quiet\n"),
    ("settings/noises.def", "noise \"first\" {\n  low\n  high\n}\nnoise \"last\" {\n}\n"),
    ("stranger/mix.ini", "[Mixer]\nBanks=STRANGE\n"),
    ("stranger/all.toml", "[bank]\ntone = \"strange\"\n"),
];

/// Lines of jobs, of which each job takes some.
const LINES: [(&str, &str); 5] = [
    ("sfx/a.snd", "a.snd"),
    ("sfx/b.snd", "b.snd"),
    ("sfx/new.snd", "a.snd"),
    ("names.json", "list.json"),
    ("deep/kept.lst", "list.lst"),
];

const CLIPS: [(&str, &str); 5] = [
    ("a.snd", "clip a\n"),
    ("b.snd", "clip b\n"),
    ("b.lip", "lips of clip b"),
    ("list.json", "{\"names\": [], \"title\": \"whole\"}"),
    ("list.lst", "whole\n"),
];

/// What somebody else does to a file.
#[derive(Debug, Clone, Copy)]
enum Deed {
    /// Appends a line.
    Add,
    /// Writes another file in its place.
    Write,
    Delete,
    Empty,
    Damage,
    Link,
    /// Takes the last line out.
    Cut,
}

#[derive(Debug, Clone)]
enum Act {
    /// A job is installed, with these of the lines and this tone; the second one in an overlay that the tone names, the
    /// last one by the friend's sheet.
    Install {
        job: usize,
        lines: u8,
        tone: bool,
    },
    Restore {
        which: u8,
        changed: u8,
    },
    /// A kept copy comes back.
    Kept {
        which: usize,
    },
    Person {
        file: usize,
        deed: Deed,
    },
    /// The other root is moved and named where it is now, or a stranger's is named.
    Move {
        stranger: bool,
    },
    Struck {
        act: Box<Act>,
        at: usize,
        kill: bool,
    },
}

fn acts() -> impl Strategy<Value = Vec<Act>> {
    let install = (0usize..3, 1u8..32, any::<bool>()).prop_map(|(job, lines, tone)| Act::Install {
        job,
        lines,
        tone,
    });
    let back = (0u8..7, 0u8..3).prop_map(|(which, changed)| Act::Restore { which, changed });
    let kept = (0usize..8).prop_map(|which| Act::Kept { which });
    let plain = prop_oneof![5 => install, 3 => back, 1 => kept].boxed();
    let struck = (plain.clone(), 0usize..160, any::<bool>())
        .prop_map(|(act, at, kill)| Act::Struck { act: Box::new(act), at, kill });
    let deed = prop_oneof![
        4 => Just(Deed::Add),
        1 => Just(Deed::Write),
        1 => Just(Deed::Delete),
        1 => Just(Deed::Empty),
        1 => Just(Deed::Damage),
        1 => Just(Deed::Link),
        2 => Just(Deed::Cut),
    ];
    let person = (0..STOCK.len() + 3, deed).prop_map(|(file, deed)| Act::Person { file, deed });
    let act = prop_oneof![
        8 => plain,
        2 => struck,
        5 => person,
        1 => any::<bool>().prop_map(|stranger| Act::Move { stranger }),
    ];
    prop::collection::vec(act, 2..10)
}

struct Model {
    folder: TempDir,
    /// Where the other root is now.
    settings: String,
    moves: usize,
    /// Contents that must not get lost, by the files that they were in.
    precious: BTreeSet<(String, Vec<u8>)>,
    /// What people have written so far, so that no two of them write the same.
    deeds: usize,
}

impl Model {
    fn new() -> Self {
        let model = Self {
            folder: folder(),
            settings: "settings".to_owned(),
            moves: 0,
            precious: STOCK.map(|(name, text)| (name.to_owned(), text.into())).into(),
            deeds: 0,
        };
        let clips =
            CLIPS.iter().chain(&SHEETS).map(|(name, text)| (format!("clips/{name}"), *text));
        let stock = STOCK.iter().map(|(name, text)| ((*name).to_owned(), *text));
        for (name, text) in stock.chain(clips).chain([("game/warm.idx".to_owned(), "cache")]) {
            let path = model.folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        model
    }

    fn at(&self, name: &str) -> PathBuf {
        match name.strip_prefix("settings/") {
            Some(rest) => self.folder.path().join(&self.settings).join(rest),
            None => self.folder.path().join(name),
        }
    }

    /// A file's name as the model knows it, by what the ledger calls it.
    fn name_of(key: &Key) -> String {
        format!("{}/{}", key.root().unwrap_or("game"), key.within())
    }

    fn root(&self, settings: &str) -> Root {
        let others = BTreeMap::from([("settings".to_owned(), self.folder.path().join(settings))]);
        let asked = RootAsk { others, ..RootAsk::default() };
        let mut root = asked.certain(&self.folder.path().join("game"), Found::Named).unwrap();
        root.registry = crate::root::Registry::in_folder(&self.folder.path().join("roots"));
        root
    }

    fn install(&self, job: usize, lines: u8, tone: bool, disk: &dyn Disk) -> Result<()> {
        let (friend, tone) = (job == 2, if tone { "high" } else { "low" });
        let sheet = SHEETS[usize::from(friend)].0;
        let overlay = if job == 1 { "overlay = '../game/over/{tone}'\n" } else { "" };
        let mut text = format!(
            "target = '{sheet}'\nroots = {{ game = '../game', settings = '../{}' }}\n\
             {overlay}[values]\ntone = '{tone}'\ngone = ''\n",
            self.settings
        );
        for (at, (slot, clip)) in LINES.iter().enumerate() {
            if lines & (1 << at) != 0 && !(friend && at > 2) {
                text += &format!("[[replace]]\nslot = '{slot}'\nclip = '{clip}'\n");
            }
        }
        let path = self.folder.path().join(format!("clips/job{job}.toml"));
        fs::write(&path, text).unwrap();
        let mut run = Run::open(&path, Ask::default(), &Unobserved)?;
        run.root = Some(self.root(&self.settings));
        Session::open(run, disk, &Unobserved)?.carry_out(disk, &Unobserved).map(drop)
    }

    fn restore(&self, which: u8, changed: u8, disk: &dyn Disk) -> Result<()> {
        let key = |text: &str| Key::parse(text).unwrap();
        let changed = [Changed::Refuse, Changed::Overwrite, Changed::Keep][usize::from(changed)];
        let slots = [key("sfx/a.snd"), key("names.json")];
        let which = match which {
            0 | 1 => Which::All,
            2 => Which::Job("job0"),
            3 => Which::Job("job1"),
            4 => Which::Job("job2"),
            5 => Which::Slots(&slots[..1]),
            _ => Which::Slots(&slots[1..]),
        };
        restore(&self.root(&self.settings), which, changed, false, disk).map(drop)
    }

    fn plain(&self, act: &Act, disk: &dyn Disk) {
        let _ = match act {
            Act::Install { job, lines, tone } => self.install(*job, *lines, *tone, disk),
            Act::Restore { which, changed } => self.restore(*which, *changed, disk),
            Act::Kept { which } => self.bring_back(*which, disk),
            _ => Ok(()),
        };
    }

    /// A kept copy of some slot comes back by name.
    fn bring_back(&self, which: usize, disk: &dyn Disk) -> Result<()> {
        let root = self.root(&self.settings);
        let state = Ledger::peek(&root)?;
        let all = state.slots.iter().flat_map(|(key, slot)| {
            slot.kept_aside().filter_map(move |one| Some((key.clone(), one.held.hash()?)))
        });
        let all: Vec<(Key, Hash)> = all.collect();
        let Some((key, copy)) = all.get(which % all.len().max(1)) else { return Ok(()) };
        let keys = std::slice::from_ref(key);
        kept(&root, keys, Some(&copy.hex()), KeptAct::Restore, false, disk).map(drop)
    }

    fn act(&mut self, act: &Act) {
        let disk = RealDisk::default();
        match act {
            Act::Install { .. } | Act::Restore { .. } | Act::Kept { .. } => self.plain(act, &disk),
            Act::Struck { act, at, kill } => {
                let fault = if *kill { Fault::Kill } else { Fault::Error };
                self.plain(act, &FaultyDisk::new(Arc::new(disk), *at, fault));
            }
            Act::Person { file, deed } => self.deed(*file, *deed),
            Act::Move { stranger: true } => {
                let ours = Ledger::peek(&self.root(&self.settings)).is_ok_and(|state| {
                    let in_it = |(key, slot): (&Key, &state::Slot)| {
                        key.root().is_some() && slot.expected().is_some()
                    };
                    state.slots.iter().any(in_it)
                });
                if ours {
                    let root = self.root("stranger");
                    let done = restore(&root, Which::All, Changed::Overwrite, false, &disk);
                    assert!(done.is_err(), "a stranger's root was taken for our own");
                }
            }
            Act::Move { stranger: false } => {
                self.moves += 1;
                let to = format!("settings{}", self.moves);
                let path = self.folder.path().join(&self.settings);
                fs::rename(path, self.folder.path().join(&to)).unwrap();
                self.settings = to;
            }
        }
    }

    fn deed(&mut self, file: usize, deed: Deed) {
        let name = match STOCK.get(file) {
            Some((name, _)) => *name,
            None => ["game/cards/a.txt", "game/sfx/new.snd", "game/over/low/names.json"]
                [file - STOCK.len()],
        };
        let path = self.at(name);
        self.deeds += 1;
        if !path.parent().is_some_and(Path::is_dir) {
            return;
        }
        let there = fs::symlink_metadata(&path).is_ok();
        // What an interrupted change has in its hands is nobody's to judge.
        let is_open = Ledger::peek(&self.root(&self.settings)).is_ok_and(|s| s.pending.is_some());
        if is_open || (!there && !matches!(deed, Deed::Write)) || name.starts_with("stranger") {
            return;
        }
        self.no_longer(name);
        let bytes = fs::read(&path).unwrap_or_default();
        match deed {
            Deed::Add => {
                let added = format!("# theirs {}\n", self.deeds);
                fs::write(&path, [&bytes[..], added.as_bytes()].concat()).unwrap();
            }
            Deed::Cut => {
                let end = bytes.iter().rposition(|b| *b == b'\n').unwrap_or(0);
                fs::write(&path, &bytes[..end]).unwrap();
            }
            Deed::Write => {
                let written = format!("another {} in {name}\n", self.deeds).into_bytes();
                let _ = fs::remove_file(&path);
                fs::write(&path, &written).unwrap();
                self.precious.insert((name.to_owned(), written));
            }
            Deed::Delete => fs::remove_file(&path).unwrap(),
            Deed::Empty => fs::write(&path, b"").unwrap(),
            Deed::Damage => fs::write(&path, [0xff, 0xfe, b'{', 0, 0xd8]).unwrap(),
            Deed::Link => {
                fs::remove_file(&path).unwrap();
                #[cfg(unix)]
                std::os::unix::fs::symlink("nowhere", &path).unwrap();
            }
        }
    }

    /// What somebody else has destroyed is not ours to keep, unless the ledger keeps it already.
    fn no_longer(&mut self, name: &str) {
        let Ok(bytes) = fs::read(self.at(name)) else { return };
        if self.kept_copies().contains(&(name.to_owned(), Hash::of(&bytes))) {
            return;
        }
        self.precious.remove(&(name.to_owned(), bytes));
    }

    /// What the ledger says that it keeps, of which file.
    fn kept_copies(&self) -> BTreeSet<(String, Hash)> {
        let state = Ledger::peek(&self.root(&self.settings)).unwrap_or_default();
        let kept = state.slots.iter().flat_map(|(key, slot)| {
            // What lies below another layer comes back with it.
            slot.kept().filter_map(record::Held::hash).map(move |hash| (Self::name_of(key), hash))
        });
        kept.collect()
    }

    /// Every original is in its place, or an intact copy is kept of which the ledger knows whose it is.
    fn check(&self, after: &str) {
        let root = self.root(&self.settings);
        let Ok(state) = Ledger::peek(&root) else { panic!("no state after {after}") };
        // Where a change broke off, the copies that it took count until the next run has dealt with it.
        let is_open = state.pending.is_some();
        let known = self.kept_copies();
        for (name, bytes) in &self.precious {
            let hash = Hash::of(bytes);
            let in_place = fs::read(self.at(name)).is_ok_and(|now| now == *bytes);
            let kept = fs::read(kept_in(&root.ledger, hash)).is_ok_and(|copy| copy == *bytes);
            let named = is_open || known.contains(&(name.clone(), hash));
            let shown = String::from_utf8_lossy(bytes);
            assert!(in_place || (kept && named), "{name}: {shown:?} is lost after {after}");
        }
    }

    /// In the end the commands that say so give everything back, and nothing of ours is left.
    fn end(&self) {
        let disk = RealDisk::default();
        let root = self.root(&self.settings);
        drop(Ledger::open(&root, &disk).unwrap());
        let done = restore(&root, Which::All, Changed::Overwrite, false, &disk).unwrap();
        assert!(done.failed.is_empty(), "{:?}", done.failed);
        self.check("the last restore");
        let state = Ledger::peek(&root).unwrap();
        for (name, bytes) in &self.precious {
            let in_place = || fs::read(self.at(name)).is_ok_and(|now| now == *bytes);
            let Some(key) = state.slots.keys().find(|key| Self::name_of(key) == *name) else {
                assert!(in_place(), "{name} was never touched");
                continue;
            };
            if !in_place() {
                let (keys, copy) = (std::slice::from_ref(key), Hash::of(bytes).hex());
                kept(&root, keys, Some(&copy), KeptAct::Restore, false, &disk).unwrap();
                assert!(in_place(), "{name} does not come back");
            }
        }
        for entry in walkdir::WalkDir::new(self.folder.path()).into_iter().flatten() {
            let name = entry.file_name().to_string_lossy();
            assert!(!name.starts_with(PART), "{} is left", entry.path().display());
        }
        for stranger in STOCK.iter().filter(|(name, _)| name.starts_with("stranger")) {
            assert_eq!(fs::read_to_string(self.at(stranger.0)).unwrap(), stranger.1);
        }
    }
}

/// Histories of jobs that fail would show nothing.
#[test]
fn the_jobs_that_histories_are_made_of_install() {
    for (job, made) in
        [(0, "game/sfx/new.snd"), (1, "game/over/high/names.json"), (2, "game/sfx/new.snd")]
    {
        let model = Model::new();
        model.install(job, 7, true, &RealDisk::default()).unwrap();
        assert!(model.at(made).is_file(), "{job}");
        model.end();
    }
}

#[test]
fn no_original_of_an_edited_file_is_lost_whatever_happens() {
    // A whole job in two roots each time: by default a quarter of the others.
    let cases = super::model::sequences() / 4;
    let config = Config { cases, failure_persistence: None, ..Config::default() };
    let tried = TestRunner::new(config).run(&acts(), |acts| {
        let mut model = Model::new();
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
