//! What sheets, jobs, packs, ledgers, archives, lists and entries must stand: any bytes.

use deft_needle_audio::observe::Unobserved;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::entry::{Format, Made, NewEntry, Order, Put};
use deft_needle_core::job::Job;
use deft_needle_core::ledger::{Ledger, rescue};
use deft_needle_core::limits::{FILLED, LEVELS};
use deft_needle_core::names::Key;
use deft_needle_core::root::Roots;
use deft_needle_core::root::{Found, Registry, Root, RootAsk, usual_folder};
use deft_needle_core::run::{Ask, Changed, Proof, Run, Session, Which, restore, status};
use deft_needle_core::sheet::{Sheet, Within};
use deft_needle_core::slots::{Slots, from_csv};
use deft_needle_core::stock::Stock;
use deft_needle_core::template::Names;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use tempfile::TempDir;

/// A folder in memory, where the machine has one.
fn folder() -> TempDir {
    let memory = Path::new("/dev/shm");
    let made = match memory.is_dir() {
        true => tempfile::tempdir_in(memory),
        false => tempfile::tempdir(),
    };
    made.unwrap()
}

/// A sheet or an error.
pub fn sheet(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    if let Ok(sheet) = Sheet::parse(text, Path::new("x.toml")) {
        let _ = sheet.rule_for("sfx/gull_1.wav");
        let _ = Slots::of_sheet(&sheet, &Roots::default());
    }
}

/// A job or an error, dealt to a target of one file.
pub fn job(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Ok(job) = Job::parse(text, Path::new("x.toml")) else { return };
    let sheet = "name = 'x'\n[[rule]]\nmatch = '**'\nspec = 'wav any any any'\nnew = 'any'";
    let sheet = Sheet::parse(sheet, Path::new("t.toml")).unwrap();
    if let Ok(target) = deft_needle_core::target::Target::new(sheet, Roots::default()) {
        let _ = job.deal(&target);
        let _ = job.place(&target, &target.roots);
    }
}

/// A pack is taken in or refused, and writes nothing outside of its private folder.
pub fn pack(bytes: &[u8]) {
    let folder = folder();
    let (pack, root) = (folder.path().join("x.zip"), folder.path().join("root"));
    fs::create_dir(&root).unwrap();
    fs::write(&pack, bytes).unwrap();
    let ask = Ask { root: Some(&root), ..Ask::default() };
    let _ = Run::of_pack(&pack, None, ask, &Unobserved);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2);
    assert_eq!(fs::read_dir(&root).unwrap().count(), 0);
}

fn root(path: &Path, registry: &Path) -> Root {
    let mut root = RootAsk::default().certain(path, Found::Named).unwrap();
    root.registry = Registry::in_folder(registry);
    root.adopt = true;
    root
}

/// Whatever a log says, nothing outside of the root changes, and no copy that it does not name goes.
pub fn ledger(bytes: &[u8]) {
    let folder = folder();
    let at = folder.path().join("root");
    let stock = usual_folder(&at).join("stock");
    fs::create_dir_all(&stock).unwrap();
    fs::write(folder.path().join("precious"), b"precious").unwrap();
    fs::write(at.join("a.wav"), b"a").unwrap();
    // The first byte says which of the two files is there.
    let Some((which, log)) = bytes.split_first() else { return };
    if which & 1 == 0 {
        fs::write(usual_folder(&at).join("ledger.log"), log).unwrap();
    }
    if which & 2 == 0 {
        fs::write(stock.join("ledger.log"), log).unwrap();
    }
    let copy = stock.join("5".repeat(64));
    if which & 4 == 0 {
        fs::write(&copy, b"somebody's").unwrap();
    }
    let named = String::from_utf8_lossy(log).contains(&"5".repeat(64));
    let (root, disk) = (root(&at, &folder.path().join("roots")), RealDisk::default());
    let _ = status(&root, Which::All, Proof::Verify);
    drop(Ledger::open(&root, &disk));
    let _ = restore(&root, Which::All, Changed::Overwrite, false, &disk);
    let _ = rescue::rescue(&root, &BTreeMap::new(), &disk);
    assert_eq!(fs::read(folder.path().join("precious")).unwrap(), b"precious");
    assert!(which & 4 != 0 || named || copy.is_file());
    let names = fs::read_dir(folder.path()).unwrap().flatten().map(|e| e.file_name());
    assert!(
        names.into_iter().all(|name| ["root", "precious", "roots"].iter().any(|own| name == *own))
    );
}

/// An archive is read or refused; no name leads out.
pub fn archive(bytes: &[u8]) {
    let folder = folder();
    let path = folder.path().join("x.tar");
    fs::write(&path, bytes).unwrap();
    let Ok(stock) = Stock::open(&path) else { return };
    for name in stock.names().unwrap_or_default() {
        assert!(name.parse::<Within>().is_ok());
    }
    let _ = stock.look(&|member| Ok(member.clip(&Default::default()).is_ok()), &Unobserved);
}

/// Lists of every kind; no name leads out.
pub fn list(bytes: &[u8]) {
    if let Ok(text) = std::str::from_utf8(bytes) {
        for listed in from_csv(text, Path::new("x.csv")).unwrap_or_default() {
            assert!(listed.name.parse::<Within>().is_ok());
        }
    }
    let folder = folder();
    for (file, more) in [("a.json", ""), ("a.txt", ""), ("a.csv", "column = 1\n")] {
        fs::write(folder.path().join(file), bytes).unwrap();
        let sheet = format!("name = 'x'\n[[slots]]\nin-root = '{file}'\n{more}");
        let Ok(sheet) = Sheet::parse(&sheet, Path::new("x.toml")) else { continue };
        let slots = Slots::of_sheet(&sheet, &Roots::main(Some(folder.path())));
        for name in slots.iter().flat_map(Slots::names) {
            assert!(name.parse::<Within>().is_ok());
        }
    }
}

/// Entries are made and reverted, or refused.
pub fn entry(bytes: &[u8], format: Format, at: &str) {
    let values = [serde_json::json!("quay, \"7\""), serde_json::json!({ "name": "x", "n": 3 })];
    for value in values {
        for order in [Order::End, Order::Sorted] {
            let wanted = NewEntry {
                format,
                at: at.to_owned(),
                value: Some(value.clone()),
                expect: None,
                separator: None,
                order,
                ignore_case: false,
                put: Put::Instead,
            };
            let Ok(Made::New(with, done)) = wanted.make(bytes) else { continue };
            let _ = (done.stands(&with), done.undo(&with));
        }
    }
}

/// A text is filled in to no more than a template may become, whatever its values and filters are.
pub fn template(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let (value, template) = text.split_once('\n').unwrap_or((text, "{x|json|json}{x}"));
    let mut names = Names::of("x");
    names.set("x", value);
    names.set("n", 12.5);
    if let Ok(filled) = names.text(template) {
        assert!(filled.len() <= FILLED);
    }
    let nested = toml::Value::Array(vec![toml::Value::String(template.to_owned()); 64]);
    if let Ok(serde_json::Value::Array(all)) = names.value(&nested) {
        let bytes: usize = all.iter().filter_map(|one| Some(one.as_str()?.len())).sum();
        assert!(bytes <= FILLED);
    }
}

/// A pack whose receipt and sheet a stranger has written: planned or refused, and nothing outside of the root is written.
pub fn receipt(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let (receipt, sheet) = text.split_once("\n===\n").unwrap_or((text, "name = 'x'\n"));
    let folder = folder();
    let (pack, at) = (folder.path().join("pack"), folder.path().join("root"));
    fs::create_dir_all(pack.join("deft-needle")).unwrap();
    fs::create_dir(&at).unwrap();
    fs::write(pack.join("deft-needle/pack.toml"), receipt).unwrap();
    fs::write(pack.join("deft-needle/sheet.toml"), sheet).unwrap();
    fs::write(pack.join("a"), b"a").unwrap();
    fs::write(at.join("list.txt"), b"one\n").unwrap();
    let ask = Ask { root: Some(&at), adopt: true, ..Ask::default() };
    let disk = RealDisk::default();
    if let Ok((mut run, _kept)) = Run::of_pack(&pack, None, ask, &Unobserved) {
        run.root = Some(root(&at, &folder.path().join("roots")));
        if let Ok(session) = Session::open(run, &disk, &Unobserved) {
            let _ = session.carry_out(&disk, &Unobserved);
        }
        let root = root(&at, &folder.path().join("roots"));
        let _ = restore(&root, Which::All, Changed::Overwrite, false, &disk);
        assert_eq!(fs::read(at.join("list.txt")).unwrap(), b"one\n");
    }
    let names = fs::read_dir(folder.path()).unwrap().flatten().map(|e| e.file_name());
    assert!(names.into_iter().all(|name| ["root", "pack", "roots"].iter().any(|own| name == *own)));
}

/// Names as deep and as long as they like are keys, or refused; a key stays in its root.
pub fn names(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    for name in text.lines() {
        for deep in [1, 40, 400] {
            let name = vec![name; deep].join("/");
            if let Ok(key) = Key::parse(&name) {
                let root = Path::new("root");
                assert!(key.path(root).starts_with(root) && key.path(root) != root);
                assert!(key.folders().len() < LEVELS);
            }
        }
    }
}
