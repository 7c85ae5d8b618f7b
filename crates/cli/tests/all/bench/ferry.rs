//! A game with everything beside its sounds: lists, settings in another root, a cache, packs.

use super::{Bench, game};
use std::collections::BTreeMap;
use std::fs;

/// What the game takes, with everything beside the sounds.
pub const SHEET: &str = r#"
name = "Ferry"
marker = "ferry.toml"
roots = ["game", "settings"]
clear = "**/warm.idx"
after = "Open it again."
budget = "40MiB"

[[slots]]
in-root = "."

[labels]
"sfx/bell.wav" = "the bell at noon"

[[rule]]
match = "sfx/*.wav"
spec = "wav pcm16 22050 mono"
tags = "strip"
count = [1, 2, 4]
new = "any"

[[rule]]
match = "music/*.ogg"
spec = "ogg vorbis:q3 48000 stereo"
loop-tags = { start = "REPEAT_AT", length = "REPEAT_FOR" }
longest = "3s"

[[rule]]
match = "*.LBX"
spec = "opaque"
first-bytes = "4C 42 58 31"

[[entry]]
match = "music/*"
file = "cues.json"
at = "/cues/{stem}"
value = { plays = "{slot}", millis = "{seconds*1000|round}", from = "{loop.start}" }

[[entry]]
only = "overlay"
root = "settings"
file = "mix.ini"
at = "Mixer/Banks"
value = "+{berth}"
separator = ";"

[[carry]]
file = "ferry.toml"

[pack]
extension = "ferry"
folder = "sounds"
files = [{ path = "bill.txt", template = "bill.template" }]
icon = { path = "icon.png", size = 32 }
"#;

pub const JOB: &str = "target = 'ferry-sheet.toml'\nroots = { game = 'game', settings = 'settings' }\n\
    [values]\nberth = 'QUAY-7'\n\
    [[replace]]\nslot = 'sfx/gull_#.wav'\nclip = 'clip.wav'\ngain = '-3dB'\n\
    [[replace]]\nslot = 'music/dusk.ogg'\nclip = 'loud.wav'\nloop = '0.5s..1.5s'\n";

pub fn ferry() -> Bench {
    let bench = game();
    bench.put("ferry-sheet.toml", SHEET.as_bytes());
    bench.put("bill.template", b"{name|quoted} {version} {uuid:bill}\n{each}\n{slot} {frames}\n{end}\nby {author}, {credits}\n");
    bench.put("game/cues.json", b"{\n  \"cues\": { \"storm\": {} } // all\n}\n");
    bench.put("game/music/warm.idx", b"cache");
    bench.put("settings/mix.ini", b"[Mixer]\r\nBanks=BASE\r\n");
    bench.put("quay.toml", JOB.as_bytes());
    bench
}

/// Every file of some folders, ledgers left out.
pub fn tree(bench: &Bench, folders: &[&str]) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    let mut open: Vec<_> = folders.iter().map(|folder| bench.path(folder)).collect();
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).unwrap().flatten() {
            let path = entry.path();
            match path.is_dir() {
                true if path.ends_with(".deft-needle") => {}
                true => open.push(path),
                false => {
                    let name =
                        path.strip_prefix(bench.path("")).unwrap().to_string_lossy().into_owned();
                    all.insert(name, fs::read(path).unwrap());
                }
            }
        }
    }
    all
}

pub const ROOTS: [&str; 2] = ["game", "settings"];
