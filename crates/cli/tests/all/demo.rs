//! The demo, and the examples of the help.

use crate::bench::Bench;
use crate::bench::ferry::tree;
use crate::bench::typed::filled;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

#[test]
fn the_demo_tells_its_story() {
    let bench = Bench::new();
    let ran = bench.run(&["demo", "--all", "demo"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    // Each chapter leaves every target as it was.
    assert_eq!(ran.out.matches("byte for byte").count(), ran.out.matches("Chapter ").count());
    for part in [
        "TICK02.PRM    refused: encoding 0x0003",
        "TICK01.PRM    plays 1.600 s at 18900 Hz",
        "HOUR01.PRM    refused: it is longer than 6 s",
        "HOUR01.PRM    plays 6.000 s",
        "left and right are opposed (correlation -1.00)",
    ] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    assert_eq!(bench.run(&["demo", "demo"]).code, 5, "it never writes into what is there");
    // What the documentation shows works as it stands in the demo's folder, and says what it shows.
    for (page, text) in [
        ("README.md", include_str!("../../../../README.md")),
        ("loops.md", include_str!("../../../../docs/loops.md")),
        ("shaping.md", include_str!("../../../../docs/shaping.md")),
        ("formats.md", include_str!("../../../../docs/formats.md")),
    ] {
        let folder = if page == "README.md" { "." } else { "demo" };
        let played = bench.play_page(folder, page, text);
        assert!(played > 0 || page == "formats.md", "{page}");
    }
}

/// The short tour fits on a few screens; a chapter needs nothing of those before it.
#[test]
fn the_tour_is_short_and_chapters_stand_by_themselves() {
    let bench = Bench::new();
    let tour = bench.run(&["demo", "tour"]);
    assert_eq!(tour.code, 0, "{}{}", tour.out, tour.err);
    assert!(tour.out.lines().count() <= 150, "{}", tour.out);
    assert!(tour.out.contains("byte for byte") && tour.out.contains("Try this next"));
    // What it tells to type next works as it stands.
    let next = tour.out.split("Try this next").nth(1).unwrap();
    let mut typed = 0;
    for line in next.lines().filter_map(|line| line.trim().strip_prefix("deft-needle ")) {
        let line = line.split("  ").next().unwrap();
        let (code, err) = shell(&bench.path("tour"), line);
        assert!(code == 0 || line.contains("hasty"), "{line}: {code} {err}");
        typed += 1;
    }
    assert!(typed >= 5);
    let list = bench.run(&["demo", "--list"]).out;
    for number in 1..=list.lines().count() {
        let (folder, number) = (format!("chapter {number}"), number.to_string());
        let ran = bench.run(&["demo", &folder, "--chapter", &number]);
        assert_eq!(ran.code, 0, "{number}: {}{}", ran.out, ran.err);
        let title = list.lines().nth(number.parse::<usize>().unwrap() - 1).unwrap();
        assert!(ran.out.contains(title.split_once("  ").unwrap().1), "{number}: {}", ran.out);
    }
    assert_eq!(bench.run(&["demo", "--chapter", "10"]).code, 2);
    let object = bench.json(&["demo", "told", "--chapter", "2"]);
    assert_eq!((&object["folder"], &object["as_expected"]), (&"told".into(), &true.into()));
}

/// Every command of the guide, in the order of each page, in a fresh folder of the demo. With
/// `DEFT_NEEDLE_WRITE_DOCS` set, the pages are written with what the commands say now.
#[test]
fn the_guide_works_as_it_stands() {
    let guide = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide");
    let made = Bench::new();
    assert_eq!(made.run(&["demo", "try"]).code, 0);
    let mut played = 0;
    for page in fs::read_dir(guide).unwrap() {
        let page = page.unwrap().path();
        let (name, text) = (page.file_name().unwrap(), fs::read_to_string(&page).unwrap());
        let name = name.to_str().unwrap();
        let bench = Bench::new();
        copy(&made.path("try"), &bench.path("try"));
        if std::env::var_os("DEFT_NEEDLE_WRITE_DOCS").is_some() {
            fs::write(&page, filled(&bench, "try", &text)).unwrap();
            continue;
        }
        let commands = bench.play_page("try", name, &text);
        assert!(commands > 0 || ["README.md", "glossary.md"].contains(&name), "{name}");
        played += commands;
    }
    let written = std::env::var_os("DEFT_NEEDLE_WRITE_DOCS").is_some();
    assert!(written || played >= 50, "{played}");
}

/// The examples in the help texts are run as they stand, in a folder that has what they name.
#[test]
fn help_examples_work() {
    let bench = Bench::new();
    bench.run(&["demo", "demo"]);
    let demo = bench.path("demo");
    fs::copy(demo.join("takes/kettle.wav"), demo.join("kettle.wav")).unwrap();
    for (from, to) in [
        ("takes/kettle.wav", "in.wav"),
        ("card/SAY/TICK01.PRM", "new.wav"),
        ("kettle.wav", "hum.wav"),
    ] {
        fs::copy(demo.join(from), demo.join(to)).unwrap();
    }
    fs::create_dir_all(demo.join("fitted")).unwrap();
    fs::create_dir_all(demo.join("game")).unwrap();
    fs::write(demo.join("bell.lbx"), b"LBX1 new").unwrap();
    fs::write(demo.join("game/BELL.LBX"), b"LBX1 old").unwrap();
    fs::write(demo.join("dump.bin"), [1; 4000]).unwrap();
    fs::create_dir_all(demo.join("downloads")).unwrap();
    fs::copy(demo.join("kettle.wav"), demo.join("downloads/kettle.wav")).unwrap();
    fs::copy(demo.join("card/SAY/TICK02.PRM"), demo.join("card/SAY/TICK09.PRM")).unwrap();
    fs::remove_file(demo.join("card/SAY/TICK09.PRM")).unwrap();
    let mut run = 0;
    for name in ["inspect", "hear", "fit", "check", "swap", "restore", "new", "pack", "install"] {
        let help = bench.run(&["help", name]).out;
        let examples: Vec<&str> =
            help.lines().filter_map(|l| l.trim().strip_prefix("deft-needle ")).collect();
        assert!(!examples.is_empty(), "{name} has no examples");
        for example in examples {
            let typed = example.split("   ").next().unwrap();
            // Examples of restore need something to restore.
            if name == "restore" {
                for slot in ["TICK01", "CUCKOO"] {
                    let swap = format!("swap kettle.wav card/SAY/{slot}.PRM --root card");
                    shell(&demo, &swap);
                }
                shell(&demo, "install quay.toml");
            }
            let (code, err) = shell(&demo, typed);
            assert!(code == 0 || (name == "check" && code == 1), "{typed}: {code} {err}");
            run += 1;
        }
    }
    assert!(run >= 20);
    // The job sheets of the documentation, and every key that the program knows.
    let text = include_str!("../../../../docs/job-sheets.md");
    for example in examples(text) {
        fs::write(demo.join("example.toml"), example).unwrap();
        let (code, err) = shell(&demo, "check example.toml");
        assert_eq!(code, 0, "{example}{err}");
    }
    for table in ["", "[[replace]]\n", "[defaults]\n", "[voice]\n", "[pack]\n"] {
        fs::write(demo.join("example.toml"), format!("target = 'x'\n{table}nonsense = 1\n"))
            .unwrap();
        let (_, err) = shell(&demo, "check example.toml");
        let known = err.split("known are: ").nth(1).unwrap_or_else(|| panic!("{table}: {err}"));
        for key in known.trim().split(", ") {
            let told = [format!("`{key}`"), format!("`[{key}]`"), format!("`[[{key}]]`")];
            assert!(told.iter().any(|told| text.contains(told)), "{key} of {table:?}");
        }
    }
}

/// A folder with all that is in it.
fn copy(from: &Path, to: &Path) {
    fs::create_dir(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let to = to.join(entry.file_name());
        match entry.file_type().unwrap().is_dir() {
            true => copy(&entry.path(), &to),
            false => drop(fs::copy(entry.path(), to).unwrap()),
        }
    }
}

/// The examples of a page.
fn examples(text: &str) -> impl Iterator<Item = &str> {
    let rest = text.split("```toml\n").skip(1);
    rest.map(|rest| rest.split("```").next().unwrap())
}

fn shell(folder: &Path, line: &str) -> (i32, String) {
    let mut args: Vec<String> = Vec::new();
    for (index, piece) in line.split('"').enumerate() {
        match index % 2 {
            1 => args.push(piece.to_owned()),
            _ => args.extend(piece.split_whitespace().map(str::to_owned)),
        }
    }
    let mut command = Command::new(env!("CARGO_BIN_EXE_deft-needle"));
    command.current_dir(folder).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
    // Only these two signs of a shell are used.
    if let Some(at) = args.iter().position(|a| a == "<") {
        command.stdin(fs::File::open(folder.join(&args[at + 1])).unwrap());
        args.truncate(at);
    }
    let output = command.args(args).output().unwrap();
    (output.status.code().unwrap(), String::from_utf8_lossy(&output.stderr).into_owned())
}

/// A pack holds what its job installs: taken in by somebody else, it leaves the same tree.
#[test]
fn packs_install_what_their_jobs_do() {
    let [own, friend] = [0, 1].map(|_| Bench::new());
    for bench in [&own, &friend] {
        assert_eq!(bench.run(&["demo", "try"]).code, 0);
    }
    let pack = own.path("made.pack");
    for (job, roots, folders) in [
        ("quay", "--root game=game --root settings=settings", &["game", "settings"][..]),
        ("berth", "--root game=game --root settings=settings", &["game", "settings"]),
        ("additions", "--root game=game --root settings=settings", &["game", "settings"]),
        ("door", "--root finch", &["finch"]),
        ("show", "--root comet", &["comet"]),
        ("tower", "--root heron", &["heron"]),
    ] {
        let pack = pack.display();
        for (bench, line) in [
            (&own, format!("pack {job}.toml -o {pack} --overwrite --allow-commands")),
            (&own, format!("install {job}.toml --allow-commands")),
            (&friend, format!("install {pack} {roots}")),
        ] {
            let (code, err) = shell(&bench.path("try"), &line);
            assert_eq!(code, 0, "{line}: {err}");
        }
        let trees = [&own, &friend].map(|bench| {
            let mut tree = tree(
                bench,
                &folders
                    .iter()
                    .map(|f| format!("try/{f}"))
                    .collect::<Vec<_>>()
                    .iter()
                    .map(String::as_str)
                    .collect::<Vec<_>>(),
            );
            // What a stranger's sheet says of caches is not believed.
            tree.retain(|name, _| !name.ends_with(".idx"));
            tree
        });
        let names = trees.each_ref().map(|tree| tree.keys().collect::<Vec<_>>());
        assert_eq!(names[0], names[1], "{job}");
        for (name, bytes) in &trees[0] {
            assert!(trees[1][name] == *bytes, "{job}: {name} differs");
        }
        for bench in [&own, &friend] {
            for root in folders.iter().filter(|root| **root != "settings") {
                assert_eq!(shell(&bench.path("try"), &format!("restore {root}")).0, 0);
            }
        }
    }
}
