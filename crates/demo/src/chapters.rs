//! The chapters of the demo. Each stands by itself, and leaves every target as it found it.

use super::{Code, Stage, brass_wren, glass_heron, jobs, lockbox, loops, targets};
use deft_needle_core::error::Result;

/// A part of the demo.
pub struct Chapter {
    /// What it shows, as `--list` prints it.
    pub title: &'static str,
    /// Plays it.
    pub play: fn(&mut Stage<'_>) -> Result<()>,
}

/// All chapters, in the order in which people work.
pub const CHAPTERS: &[Chapter] = &[
    Chapter { title: "A talking clock: look, swap, shape, undo", play: brass_wren::play },
    Chapter { title: "One take in six formats", play: formats },
    Chapter { title: "A closed format and its maker's encoder", play: lockbox::play },
    Chapter { title: "Whole targets: learn, check, search, fit", play: targets::play },
    Chapter { title: "Music and ambience that loop", play: loops::play },
    Chapter { title: "A whole job: check, install, update, restore", play: jobs::in_place },
    Chapter { title: "Additions and packs", play: jobs::additions },
    Chapter { title: "Spoken prompts, ringtones, show cues", play: jobs::others },
    Chapter {
        title: "Names that lie elsewhere: a store of hashes, links",
        play: glass_heron::play,
    },
];

/// One take for every kind of target, and back.
fn formats(stage: &mut Stage<'_>) -> Result<()> {
    stage.tell("Each target wants other files. The same take, as each of them likes it:");
    for (out, spec) in [
        ("crossing.ogg", "ogg vorbis:q6 48000 stereo"),
        ("ring.m4a", "m4a aac:96k 44100 stereo"),
        ("tone.wav", "wav alaw 8000 mono"),
        ("lamp.aiff", "aiff pcm24 48000 stereo"),
        ("knock.flac", "flac flac24 48000 stereo"),
        ("step.qoa", "qoa qoa 44100 mono"),
    ] {
        stage.run(&format!("fit takes/kettle.wav -o made/{out} --spec \"{spec}\""), Code::Done)?;
    }
    stage.run("inspect made/*", Code::Done)?;
    stage
        .run("fit made/crossing.ogg -o made/named.ogg --tag \"TITLE=Crossing at dusk\"", Code::Done)
}
