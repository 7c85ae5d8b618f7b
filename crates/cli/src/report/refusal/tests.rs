//! Every refusal in words: what is wrong with its values, and what to do next, ready to type.

use super::*;
use deft_needle_audio::{Invalid, Unmet};
use deft_needle_core::Error;
use deft_needle_core::names::{Difference, Key, Near, OddName};
use deft_needle_core::refusal::{FileKind, OddJob, OddLedger, OddLine, OddPack, OutsideFault};
use std::path::PathBuf;

fn p(path: &str) -> PathBuf {
    PathBuf::from(path)
}

fn near(names: &[&str]) -> Vec<Near> {
    let near = |name: &&str| Near { name: (*name).to_owned(), how: Difference::Spelling };
    names.iter().map(near).collect()
}

fn key(name: &str) -> Key {
    Key::new(None, name).unwrap()
}

/// What is wrong, and what to do next.
fn said(error: Error) -> String {
    match error {
        Error::Refused(refused) => {
            let Words(what, help) = refusal(&refused);
            format!("{what} | {help}")
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn paths() {
    for (why, want) in [
        (OddPath::Link, "is a link | name what it leads to: nothing is followed through links"),
        (
            OddPath::LinkOut,
            "is a link that leads out of the target | replace it with the file itself, or name the folder that it leads to as a root",
        ),
        (
            OddPath::LinkNotUnicode,
            "leads to a name that is not valid Unicode | replace the link with the file itself",
        ),
        (OddPath::NotUnicode, "has a name that is not valid Unicode | rename it first"),
        (OddPath::NotFolder, "is not a folder | check the path: a folder is needed here"),
        (
            OddPath::Absent,
            "does not exist | check the path; if it is on a card or a drive, insert it",
        ),
        (
            OddPath::Folder,
            "is a folder | name a file, or end the path of an output with / to put the clip into the folder",
        ),
        (
            OddPath::Device,
            "is a pipe or a device | name a regular file; - is standard input or output",
        ),
        (OddPath::OfLedger, "belongs to a ledger | name a file or a folder of the target's own"),
        (
            OddPath::Exists { in_target: true },
            "exists already | it is in a target: use swap, which keeps the stock",
        ),
        (
            OddPath::Exists { in_target: false },
            "exists already | choose another name, or add --overwrite (or use swap, which keeps what was there)",
        ),
        (
            OddPath::HoldsClip,
            "holds the clip, and other things with it | choose another output: replacing it would lose them",
        ),
        (
            OddPath::IsClip,
            "is the clip itself | choose another output; --overwrite replaces the clip, which is then lost",
        ),
        (OddPath::Empty, "is empty | make it again"),
        (OddPath::NotEmpty, "is not empty | name a new folder"),
        (
            OddPath::ReadsBackOdd,
            "does not read back as it was written | check the disk; check that no other program writes to that file",
        ),
        (
            OddPath::NotStock,
            "is neither a folder nor a zip or tar | name the folder or the archive that holds the target's files",
        ),
        (
            OddPath::NoSound,
            "holds no audio file | name the folder or archive that holds the target's sounds",
        ),
        (
            OddPath::NotOurLedger,
            "is not what a ledger holds: this is not a ledger of ours | name an empty or a new folder, or a ledger's own",
        ),
        (
            OddPath::NoEntryFile,
            "does not exist: there is no file for the entries to go into | start the target once so that it makes the file, or check the root",
        ),
        (
            OddPath::NoJobFolder,
            "does not exist | make that folder, or correct the path in the job sheet",
        ),
        (
            OddPath::NoSpec,
            "is new, and nothing says what it must be | add --like FILE or --spec \"wav pcm16 24000 mono\"",
        ),
        (
            OddPath::ClipIsSlot,
            "is both the clip and the slot | name the clip first, then the file that it replaces",
        ),
        (
            OddPath::NotPicture,
            "exists already and is not a PNG picture | choose another name for the picture",
        ),
    ] {
        assert_eq!(said(why.of("card/A.PRM")), format!("card/A.PRM {want}"));
    }
    for (refused, want) in [
        (
            Refusal::OutsideRoot { path: p("a.wav"), root: p("card") },
            "a.wav is outside card | name a file below the root, or another root with --root",
        ),
        (
            Refusal::NotWithin { typed: "../a".to_owned(), why: None },
            "\"../a\" is not the path of a file within a root | write folders and a name with / between them",
        ),
        (
            Refusal::NotWithin {
                typed: "/a".to_owned(),
                why: Some(Invalid::new("path", "/a", "a relative one")),
            },
            "invalid path \"/a\", expected a relative one | name a file below the root",
        ),
        (Refusal::Internal { what: "x".to_owned() }, "internal error: x | please report it"),
    ] {
        assert_eq!(said(refused.into()), want);
    }
}

#[test]
fn slots() {
    let target = || "Ferry".to_owned();
    let cases = [
        (
            OddSlot::Unknown { target: target(), near: near(&["a.ogg"]) },
            "Ferry has no slot b.ogg | did you mean a.ogg?",
        ),
        (
            OddSlot::Unknown { target: target(), near: vec![] },
            "Ferry has no slot b.ogg | `deft-needle slots` lists and searches the names",
        ),
        (
            OddSlot::Unmatched { target: target(), near: near(&["a.ogg", "c.ogg"]) },
            "Ferry has no slot that b.ogg matches | did you mean a.ogg or c.ogg?",
        ),
        (
            OddSlot::NoFolder { folder: "game/x".to_owned(), near: vec![], new: false },
            "there is no folder game/x | check the path; --new makes a new file and its folder",
        ),
        (
            OddSlot::NoFolder { folder: "x".to_owned(), near: near(&["y"]), new: true },
            "there is no folder x | did you mean y? Make it first if you mean a new one",
        ),
        (
            OddSlot::Absent { near: vec![] },
            "there is no b.ogg | check the name (or add --new for a new file)",
        ),
        (
            OddSlot::Absent { near: near(&["a.ogg"]) },
            "there is no b.ogg | did you mean a.ogg? (or add --new for a new file)",
        ),
        (
            OddSlot::NoRule { sheet: p("f.toml") },
            "no rule of f.toml matches b.ogg | check the slot's folder, or add a [[rule]] that matches it",
        ),
        (
            OddSlot::BadName { odd: OddName::Upper, right: Some("b.ogg".to_owned()) },
            "b.ogg has upper-case letters, must be lower case; use b.ogg | ",
        ),
        (
            OddSlot::NotInstalled { near: vec![] },
            "nothing is installed in b.ogg | `deft-needle status` shows what is",
        ),
        (
            OddSlot::ChangedNow,
            "b.ogg was changed by another program just now | close what writes to it and try again",
        ),
        (
            OddSlot::MayBe { other: "B.ogg".to_owned() },
            "b.ogg and B.ogg may be one file: they differ only in case or accents | leave one of them out",
        ),
        (
            OddSlot::Spelt { other: key("B.ogg") },
            "b.ogg differs only in case or accents from B.ogg, which was replaced before | write B.ogg, or restore that first",
        ),
        (
            OddSlot::Covered {
                lower: Some("quay".to_owned()),
                upper: Some("storm".to_owned()),
                order: vec![],
            },
            "storm was installed over quay in b.ogg | restore storm first: deft-needle restore ROOT --job storm",
        ),
        (
            OddSlot::Covered { lower: None, upper: Some("storm".to_owned()), order: vec![] },
            "storm was installed over a single swap in b.ogg | restore storm first: deft-needle restore ROOT --job storm",
        ),
        (
            OddSlot::Covered { lower: Some("quay".to_owned()), upper: None, order: vec![] },
            "b.ogg was swapped singly after quay was installed | restore that slot first: deft-needle restore ROOT b.ogg",
        ),
        (
            OddSlot::Covered {
                lower: Some("quay".to_owned()),
                upper: Some("storm".to_owned()),
                order: vec![Above::Swap(key("B.ogg")), Above::Job("the storm".to_owned())],
            },
            "storm was installed over quay in b.ogg | restore what lies over it first, in this order: deft-needle restore ROOT B.ogg, then deft-needle restore ROOT --job \"the storm\"",
        ),
        (
            OddSlot::Entry { what: "it is not JSON".to_owned() },
            "b.ogg: it is not JSON | fix the file, the job or the sheet's [[entry]]",
        ),
        (
            OddSlot::EntryStays { what: "it is not JSON".to_owned() },
            "b.ogg: it is not JSON | fix the file, add --changed overwrite to restore the original file, or --changed keep",
        ),
        (
            OddSlot::OtherExtension { clip: "a.bin".to_owned() },
            "a.bin has another extension than b.ogg | name the finished file as the target wants it, if it is the right one",
        ),
    ];
    for (why, want) in cases {
        assert_eq!(said(why.of("b.ogg")), want);
    }
}

#[test]
fn ledgers_and_jobs() {
    let root = || p("card");
    for (why, want) in [
        (
            OddLedger::NothingInstalled { path: root() },
            "nothing is installed in card, above or below it | check the path; name a ledger elsewhere with --ledger",
        ),
        (
            OddLedger::UnknownRoot { name: "settings".to_owned() },
            "the ledger does not know where the root settings is | name it with --root settings=FOLDER",
        ),
        (
            OddLedger::Away { folder: root(), key: key("A.PRM") },
            "card is not there, and A.PRM is in it | insert the card or mount the drive, then run this again",
        ),
        (
            OddLedger::Busy { root: root() },
            "another run is changing card right now | wait until it is done",
        ),
        (
            OddLedger::Raced { root: root() },
            "another run has just changed card | run this again: it has to look at what is there now",
        ),
        (
            OddLedger::Interrupted,
            "a slot was changed after an interrupted run | run the command again",
        ),
        (
            OddLedger::LogFailed { log: p("l") },
            "l could not be written before | run the command again once the disk can be written to",
        ),
        (
            OddLedger::MadeFor { ledger: p("l"), place: p("e:") },
            "the ledger in l was made for e: | if you trust where it comes from, take it over with --adopt",
        ),
        (
            OddLedger::KnownElsewhere { path: p("a"), ledger: p("l"), root: root() },
            "a was replaced before, and the ledger in l keeps its stock | use that one with --root card, or restore it first: deft-needle restore card",
        ),
        (
            OddLedger::Missing { root: root() },
            "card has no ledger | name the root, or its ledger's folder with --ledger",
        ),
        (
            OddLedger::Healthy { root: root() },
            "the ledger of card is not damaged | `deft-needle restore` puts back what it knows",
        ),
        (
            OddLedger::NoSuchJob { job: "a".to_owned(), jobs: vec![] },
            "no job a has installed anything here | `deft-needle status` shows what is installed",
        ),
        (
            OddLedger::NoSuchJob {
                job: "a".to_owned(),
                jobs: vec!["b".to_owned(), "c".to_owned()],
            },
            "no job a has installed anything here | there are: b, c",
        ),
    ] {
        assert_eq!(said(why.into()), want);
    }
    let command = || vec!["speak".to_owned(), "{text}".to_owned()];
    for (why, want) in [
        (OddJob::NoRoot, "the job has no root | name it with --root"),
        (
            OddJob::RootUnsaid { job: p("q.toml"), target: "Ferry".to_owned() },
            "q.toml does not say where Ferry is | write root = 'FOLDER' in it, or name the folder with --root",
        ),
        (
            OddJob::OtherRootUnsaid { name: "settings".to_owned() },
            "the job does not say where the root settings is | write roots = { …, settings = 'FOLDER' }",
        ),
        (
            OddJob::RootNotFolder { name: "main".to_owned(), path: root() },
            "the main root card is not a folder | check the path in the job sheet; is the card in?",
        ),
        (
            OddJob::NotInJob { slot: "a".to_owned(), near: near(&["b"]) },
            "the job has no slot a | did you mean b?",
        ),
        (
            OddJob::Incomplete { names: vec!["a".to_owned(), "b".to_owned()] },
            "no file for 2 listed names would be there: a, b | the target takes the set as a whole: add a clip for each",
        ),
        (
            OddJob::UnknownRoot {
                name: "x".to_owned(),
                target: "Ferry".to_owned(),
                roots: vec!["game".to_owned(), "settings".to_owned()],
            },
            "Ferry has no root \"x\" | there are: game, settings",
        ),
        (
            OddJob::NotRoot {
                root: root(),
                target: "Ferry".to_owned(),
                marker: "f.toml".to_owned(),
            },
            "card is not a root of Ferry: it has no f.toml | name the folder that has it with --root",
        ),
        (
            OddJob::InNoRoot {
                slot: p("a.ogg"),
                target: "Ferry".to_owned(),
                marker: "f.toml".to_owned(),
            },
            "a.ogg is in no root of Ferry: no folder above it has f.toml | check the path, or name the root with --root",
        ),
        (
            OddJob::NoClip { clip: "a.wav".to_owned(), near: near(&["b.wav"]) },
            "there is no clip a.wav | did you mean b.wav?",
        ),
        (OddJob::NotFile, "a finished file has to be a file | name it in place of -"),
        (
            OddJob::Commands { command: command(), lines: 1 },
            "this would run: speak {text} | add --allow-commands if you trust it",
        ),
        (
            OddJob::Commands { command: command(), lines: 3 },
            "this would run for 3 lines: speak {text} | add --allow-commands if you trust it",
        ),
        (
            OddJob::BadCommand(OddLine::Command("encoder", ["{in}", "{out}"])),
            "the command of the encoder names its program, {in} and {out} | as in ['program', '{in}', '{out}']",
        ),
        (
            OddJob::Variants { name: "gull_#".to_owned(), all: 5, works: vec![1, 4, 6] },
            "gull_#: there would be 5 variants, and 1, 4, 6 work | add or leave out variants",
        ),
        (
            OddJob::BadName(Invalid::new("path", "a:b", "c")),
            "invalid path \"a:b\", expected c | rename it, if the target lets you",
        ),
    ] {
        assert_eq!(said(why.into()), want);
    }
}

#[test]
fn packs_archives_caches_and_commands() {
    let file = || "sfx/a.ogg".to_owned();
    const AGAIN: &str = "get the pack again from where it came from";
    for (why, want) in [
        (OddPack::NoRoot, "a pack brings no root | say where the target is with --root FOLDER".to_owned()),
        (OddPack::NotPack { path: p("x.zip"), lacks: "pack.toml".to_owned() }, "x.zip is not a pack: it has no pack.toml | unpack it and write a job sheet: `deft-needle new` does that for a folder of clips".to_owned()),
        (OddPack::Odd { path: p("x.zip"), what: "its name is empty".to_owned() }, format!("x.zip: its pack.toml is invalid: its name is empty | {AGAIN}")),
        (OddPack::NoSheet { path: p("x.zip") }, "x.zip brings no sheet of its target | name the target's sheet with --target SHEET".to_owned()),
        (OddPack::Lacks { file: file() }, format!("sfx/a.ogg is not in the pack | {AGAIN}")),
        (OddPack::Differs { file: file() }, format!("sfx/a.ogg is not what the pack says | {AGAIN}")),
        (OddPack::Twice { name: file() }, "sfx/a.ogg would be in the pack twice | fix the sheet's [pack]".to_owned()),
        (OddPack::TooLarge { bytes: 3 << 20, most: 1 << 20 }, "the pack takes 3.00 MiB, 1.00 MiB at most are taken | leave something out".to_owned()),
        (OddPack::IconSize { size: 9000, most: 4096 }, "the sheet asks for an icon of 9000 × 9000 pixels | an icon has 1 to 4096 pixels each way".to_owned()),
        (OddPack::BadIcon { path: p("i.png"), most: 4096 }, "i.png is neither a PNG nor a JPEG, or larger than 4096 pixels | give another picture, or none: one is drawn then".to_owned()),
    ] {
        assert_eq!(said(why.into()), want);
    }
    const UNTRUSTED: &str =
        "nothing was taken from it; unpack it yourself if you trust it, and name the folder";
    for (why, want) in [
        (OddArchive::EntryTooLarge { name: file(), most: 1 << 20 }, "s.zip: its entry sfx/a.ogg would take more than 1.00 MiB | if that is meant, unpack it yourself and name the folder".to_owned()),
        (OddArchive::OddEntry { name: file(), what: "is a link".to_owned() }, format!("s.zip: its entry \"sfx/a.ogg\" is a link | {UNTRUSTED}")),
        (OddArchive::UnsafeName(Invalid::new("path", "../a", "b")), format!("s.zip: an entry is not safe: invalid path \"../a\", expected b | {UNTRUSTED}")),
        (OddArchive::HoldAll(vec![(file(), 3)]), "s.zip has its sounds in archives: sfx/a.ogg holds 3 | name the archive: s.zip/sfx/a.ogg".to_owned()),
        (OddArchive::NoEntry { name: file(), near: vec![] }, "s.zip has no sfx/a.ogg | `deft-needle slots` lists the names in an archive".to_owned()),
        (OddArchive::NoLink { number: 4, links: 3 }, "s.zip has no clip 4 | it holds 3: s.zip#1 to s.zip#3".to_owned()),
        (OddArchive::NoLink { number: 2, links: 1 }, "s.zip has no clip 2 | it holds one clip: name the file alone".to_owned()),
        (OddArchive::TooMany { most: 10 }, "s.zip has more than 10 entries | unpack it yourself and name the folder".to_owned()),
    ] {
        assert_eq!(said(why.of("s.zip")), want);
    }
    for (why, want) in [
        (
            OddCaches::Pattern(Invalid::new("pattern", "[", "a whole one")),
            "invalid pattern \"[\", expected a whole one | install the job again with a correct sheet",
        ),
        (
            OddCaches::TooMany { most: 9 },
            "the cache patterns find more than 9 files | narrow the sheet's key clear",
        ),
    ] {
        assert_eq!(said(why.into()), want);
    }
    let failed = |said: &str| OutsideFault::Failed {
        status: "exit status: 3".to_owned(),
        said: said.to_owned(),
    };
    for (why, want) in [
        (
            OutsideFault::NotStarted { reason: "not found".to_owned(), looked: Vec::new() },
            "the encoder enc could not be started: not found | check its path",
        ),
        (
            OutsideFault::NotStarted {
                reason: "not found".to_owned(),
                looked: ["/a/enc", "/b/enc"].map(str::to_owned).into(),
            },
            "the encoder enc could not be started: not found | there is neither /a/enc nor /b/enc",
        ),
        (
            OutsideFault::TooSlow { limit: 30 },
            "the encoder enc was stopped: it took longer than 30 s | give it more with --encoder-limit, or find out what it waits for",
        ),
        (OutsideFault::Lost { reason: "x".to_owned() }, "the encoder enc was lost: x | try again"),
        (
            failed(""),
            "the encoder enc failed (exit status: 3) | see what it asks for; --feed says what it gets",
        ),
        (
            failed("no such rate"),
            "the encoder enc failed (exit status: 3): no such rate | see what it asks for; --feed says what it gets",
        ),
        (
            OutsideFault::EmptyFile { said: String::new() },
            "the encoder enc left an empty file | check its options",
        ),
        (
            OutsideFault::NoFile { place: "{out}".to_owned(), said: "no room".to_owned() },
            "the encoder enc left no file at {out}: no room | check its options",
        ),
        (
            OutsideFault::Unfit {
                slot: file(),
                why: Box::new(Unmet::Rule {
                    what: "size".to_owned(),
                    expected: "8 B".to_owned(),
                    found: "9 B".to_owned(),
                }),
            },
            "what the encoder made for sfx/a.ogg fails: size: 9 B, should be 8 B | check the encoder's options in the sheet",
        ),
    ] {
        let Words(what, help) = outside("encoder", "enc", &why);
        assert_eq!(format!("{what} | {help}"), want);
    }
}

#[test]
fn odd_texts() {
    use deft_needle_core::refusal::{Many, OddList, OddRule, OddText, Written};
    let list = || vec!["a".to_owned(), "b".to_owned()];
    let line = |odd: OddLine| OddText::Job(odd);
    for (odd, want) in [
        (OddText::NotUtf8(7), "it is not UTF-8 text (at byte 7) | save it as UTF-8"),
        (
            OddText::TooLarge(Written::List, 1 << 20),
            "it is larger than 1.00 MiB, the most that a list may take | name a list of names",
        ),
        (OddText::TooMany(Many::Patterns, 9), "it has more than 9 patterns | split the sheet"),
        (
            OddText::Unknown {
                word: false,
                found: "mach".to_owned(),
                near: near(&["match"]),
                known: vec!["match".to_owned(), "spec".to_owned()],
            },
            "unknown key \"mach\" | did you mean match? known are: match, spec",
        ),
        (OddText::MissingKey("spec".to_owned()), "the key \"spec\" is missing | "),
        (
            OddText::UnknownRoot { root: "x".to_owned(), known: list() },
            "there is no root \"x\" | the sheet's roots are: a, b",
        ),
        (
            OddText::MadeOver { file: "game.toml".to_owned(), kind: FileKind::Marker },
            "[[make]] would replace game.toml, which is a marker | choose another file name",
        ),
        (
            OddText::MadeTwice("card.json".to_owned()),
            "two slots make card.json, with different contents | use {stem} or {slot} in the name of the file",
        ),
        (
            OddText::NotCache {
                pattern: None,
                file: "a.ogg".to_owned(),
                kind: Some(FileKind::Slot),
            },
            "clear finds a.ogg, which is a slot and not a cache | name the caches alone, such as \"**/warm.idx\"",
        ),
        (
            OddText::Rule(OddRule::Route { rows: 1, channels: 2 }),
            "the route feeds 1 channels, and the spec line has 2 | write one expression for each channel",
        ),
        (
            OddText::List(OddList::Column("x".to_owned(), list())),
            "no column \"x\" | its columns are: a, b; a number from 1 names one of a list without headings",
        ),
        (
            line(OddLine::Dealt { cards: 2, pieces: true, slots: 1, named: list() }),
            "2 pieces for 1 slot (a, b) | name more slots, or fewer clips",
        ),
        (
            line(OddLine::Twice("s".to_owned(), "a.wav".to_owned())),
            "s is given to a.wav already | name each slot once",
        ),
        (line(OddLine::Each("{end}", "{each}", false)), "{end} without {each} | "),
    ] {
        let Words(what, help) = odd_text(&odd);
        assert_eq!(format!("{what} | {help}"), want);
    }
}
