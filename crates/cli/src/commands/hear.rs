//! Anything readable as a plain WAV to listen to.

use super::fit::make_folder;
use crate::args::Hear;
use crate::console::{Console, safe, written};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object::{Heard, HeardPart};
use crate::paths::text;
use crate::paths::{is_stream, refuse_terminal, sounds};
use crate::progress::Progress;
use deft_needle_audio::Clip;
use deft_needle_audio::hear::Programme;
use deft_needle_audio::read::Hints;
use deft_needle_audio::units::Duration;
use deft_needle_audio::verify::verify_made;
use deft_needle_audio::write::Out;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::disk::{Durable, make_file, put_file};
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::run::refuse_existing;
use std::path::{Path, PathBuf};
use std::process::Command;

/// How often `--beside` alternates.
const ALTERNATIONS: usize = 2;

/// Writes the programme.
pub fn run(args: &Hear, console: &Console) -> Result<Exit, Failure> {
    refuse_terminal(&args.out)?;
    let mut clips = Vec::new();
    let opener = |hints| args.of.opener(&args.files[0], hints);
    let own = opener(args.options.hints())?;
    for sound in sounds(&args.files)? {
        clips.push(own.open(&sound.path)?);
    }
    let mut turns: Vec<usize> = (0..clips.len()).collect();
    if let Some(beside) = &args.beside {
        let heard: Vec<PathBuf> =
            clips.iter().filter_map(|clip| clip.input().path().map(Path::to_owned)).collect();
        clips.push(opener(Hints::default())?.open_beside(beside, &heard)?);
        let other = turns.len();
        turns = turns.into_iter().flat_map(|turn| [turn, other]).collect();
        turns = turns.repeat(ALTERNATIONS);
    }
    let programme = Programme::new(&clips, &turns, args.loops)?;
    write(&args.out, args.overwrite, &programme, &clips, console)?;
    if !is_stream(&args.out) {
        report(args, &programme, &clips, console);
    }
    if args.open {
        open(&args.out, &console.settings().player)?;
    }
    Ok(Exit::Done)
}

/// Starts the user's player, or the system's own.
fn open(out: &Path, player: &[String]) -> Result<(), Failure> {
    let failed = |what: String| Failure::Outside { what };
    match player.split_first() {
        Some((program, args)) => {
            let started = Command::new(program).args(args).arg(out).spawn();
            started
                .map(drop)
                .map_err(|error| failed(format!("the player {program} did not start: {error}")))
        }
        None => opener::open(out)
            .map_err(|error| failed(format!("the system's player did not start: {error}"))),
    }
}

/// Writes a programme to a file, or sends it.
///
/// # Errors
/// Those of reading, writing and verifying; a file that is there already.
pub fn write(
    out: &Path,
    overwrite: bool,
    programme: &Programme,
    clips: &[Clip],
    console: &Console,
) -> Result<(), Failure> {
    let disk = RealDisk::default();
    let progress = Progress::new(console, "writing", programme.plan.to.frames);
    let make = |file: &mut dyn Out| programme.write(clips, file, &progress);
    let prove = |path: &Path, outcome: &_| verify_made(&programme.plan, outcome, path, &progress);
    if is_stream(out) {
        let folder =
            tempfile::tempdir().map_err(CoreError::write("make", &std::env::temp_dir()))?;
        let file = folder.path().join("out");
        make_file(&file, Durable::No, &disk, make, prove)?;
        let sent = std::fs::File::open(&file).and_then(|bytes| console.bytes(bytes));
        sent.map_err(CoreError::write("write to", Path::new("standard output")))?;
        return Ok(());
    }
    refuse_existing(&clips.iter().collect::<Vec<_>>(), out, overwrite)?;
    make_folder(out, &disk)?;
    put_file(out, &disk, make, prove)?;
    Ok(())
}

fn report(args: &Hear, programme: &Programme, clips: &[Clip], console: &Console) {
    let to = &programme.plan.to;
    let name = |clip: usize| clips[clip].input().name().display().to_string();
    console.say(format!("{}\n  {}, {}", written(&args.out), to.format, Duration(to.seconds())));
    for part in programme.parts() {
        let start = Duration(to.format.rate.seconds(part.start));
        console.say(format!("  from {start:<9} {}", safe(&name(part.clip))));
    }
    let parts = programme
        .parts()
        .iter()
        .map(|part| HeardPart { file: name(part.clip), from: to.format.rate.seconds(part.start) });
    console.object(|| Heard {
        out: text(&args.out),
        is: to.format,
        seconds: to.seconds(),
        parts: parts.collect(),
    });
}
