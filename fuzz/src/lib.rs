//! Everything that reads what strangers make, against any bytes.
//!
//! `scripts/fuzz` runs each target beneath a fuzzer; the tests here play every seed.
#![forbid(unsafe_code)]

mod core;
mod read;
mod write;

use deft_needle_core::entry::Format;
use read::{raw, read};

/// Takes any bytes, and panics where a promise is broken.
pub type Target = fn(&[u8]);

/// Every target by its name.
pub const TARGETS: &[(&str, Target)] = &[
    ("read_wav", |bytes| read(b"RIFF\xFF\xFF\xFF\xFFWAVE", bytes)),
    ("read_w64", |bytes| read(b"riff\x2E\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0", bytes)),
    ("read_aiff", |bytes| read(b"FORM\0\xFF\xFF\xFFAIFC", bytes)),
    ("read_au", |bytes| read(b".snd", bytes)),
    ("read_caf", |bytes| read(b"caff\0\x01\0\0", bytes)),
    ("read_flac", |bytes| read(b"fLaC", bytes)),
    ("read_mp3", |bytes| read(b"\xFF\xFB", bytes)),
    ("read_mp4", |bytes| read(b"\0\0\0\x14ftypM4A \0\0\0\0M4A ", bytes)),
    ("read_mkv", |bytes| read(b"\x1A\x45\xDF\xA3", bytes)),
    ("read_ogg", |bytes| read(b"OggS", bytes)),
    ("read_qoa", |bytes| read(b"qoaf", bytes)),
    ("read_raw", |bytes| raw("raw pcm24be 24000 5.1", bytes)),
    ("read_raw_gsm", |bytes| raw("raw gsm 8000 mono", bytes)),
    ("read_raw_g722", |bytes| raw("raw g722 16000 mono", bytes)),
    ("read_raw_g726", |bytes| raw("raw g726-40 8000 mono", bytes)),
    ("read_what_is_written", write::write),
    ("core_sheet", core::sheet),
    ("core_job", core::job),
    ("core_pack", core::pack),
    ("core_receipt", core::receipt),
    ("core_template", core::template),
    ("core_names", core::names),
    ("core_ledger", core::ledger),
    ("core_archive", core::archive),
    ("core_list", core::list),
    ("core_entry_json", |bytes| core::entry(bytes, Format::Json, "/a/-")),
    ("core_entry_toml", |bytes| core::entry(bytes, Format::Toml, "/a/-")),
    ("core_entry_ini", |bytes| core::entry(bytes, Format::Ini, "S/K")),
    ("core_entry_table", |bytes| core::entry(bytes, Format::Table, "name")),
    ("core_entry_plist", |bytes| core::entry(bytes, Format::Plist, "/a/-")),
    ("core_entry_lines", |bytes| core::entry(bytes, Format::Lines, "")),
    ("core_entry_script", |bytes| core::entry(bytes, Format::Script, "a")),
];

/// The target of a name.
pub fn target(name: &str) -> Option<Target> {
    TARGETS.iter().find(|(own, _)| *own == name).map(|(_, target)| *target)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::path::Path;

    #[test]
    fn every_target_has_seeds_and_keeps_its_promises() {
        let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("seeds");
        for (name, target) in TARGETS {
            let folder = fs::read_dir(seeds.join(name));
            let folder = folder.unwrap_or_else(|error| panic!("the seeds of {name}: {error}"));
            let mut played = 0;
            for seed in folder {
                target(&fs::read(seed.unwrap().path()).unwrap());
                played += 1;
            }
            assert!(played > 0, "no seed of {name}");
        }
        for folder in fs::read_dir(seeds).unwrap() {
            let name = folder.unwrap().file_name();
            let known = name.to_str().and_then(target).is_some();
            assert!(known, "no target for the seeds of {name:?}");
        }
    }
}
