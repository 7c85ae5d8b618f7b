//! Outputs that lie where something is already.

use crate::disk::{Kind, same_file};
use crate::error::Result;
use crate::names::LEDGER_FOLDER;
use crate::refusal::OddPath;
use crate::stock::file_of;
use deft_needle_audio::Clip;
use std::path::Path;

/// Says no where a file would be lost.
///
/// # Errors
/// [`Error::Refused`].
pub fn refuse_existing(clips: &[&Clip], out: &Path, overwrite: bool) -> Result<()> {
    // The clip would be replaced together with all else that its archive or chain holds, which nobody can have meant.
    let holds = |clip: &&Clip| {
        let name = clip.input().name();
        clip.input().path().is_none() && same_file(&file_of(name), out) && !same_file(name, out)
    };
    if clips.iter().any(holds) {
        return Err(OddPath::HoldsClip.of(out));
    }
    match Kind::of(out)? {
        Kind::Nothing => return Ok(()),
        Kind::File if overwrite => return Ok(()),
        Kind::Link if overwrite && !out.is_dir() => {
            return Err(OddPath::Link.of(out));
        }
        Kind::Other => {
            return Err(OddPath::Device.of(out));
        }
        _ => {}
    }
    if out.is_dir() {
        return Err(OddPath::Folder.of(out));
    }
    let is_out = |clip: &&Clip| clip.input().path().is_some_and(|path| same_file(path, out));
    if clips.iter().any(is_out) {
        return Err(OddPath::IsClip.of(out));
    }
    let in_target = out.ancestors().skip(1).any(|folder| folder.join(LEDGER_FOLDER).is_dir());
    Err(OddPath::Exists { in_target }.of(out))
}
