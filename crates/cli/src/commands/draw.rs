//! Pictures of what was inspected or fitted.

use crate::console::{Console, written};
use crate::failure::Failure;
use crate::plot::{COLUMNS, Panel, Wave, draw};
use crate::progress::Progress;
use deft_needle_audio::Clip;
use deft_needle_audio::measure::picture::{Picture, picture};
use deft_needle_audio::measure::{Ask, Survey, survey};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::write::Out;
use deft_needle_core::disk::RealDisk;
use deft_needle_core::disk::put_file;
use deft_needle_core::refusal::OddPath;
use std::io::Read;
use std::path::Path;

/// The wave with all that was found, above the spectrum.
pub fn inspected(
    clip: Clip,
    out: &Path,
    rate: Option<u32>,
    console: &Console,
) -> Result<(), Failure> {
    let (clip, seen, found) = look(clip, console)?;
    let wave = wave(&clip, &seen, &found, clip.facts().seconds(), "");
    let spectrum = Panel::Spectrum {
        title: "Mean spectrum".to_owned(),
        picture: &seen,
        rates: rate.into_iter().collect(),
    };
    save(out, &[Panel::Wave(wave), spectrum], console)
}

/// The clip above the result, on one time axis.
pub fn fitted(clip: Clip, result: Clip, out: &Path, console: &Console) -> Result<(), Failure> {
    let before = look(clip, console)?;
    let after = look(result, console)?;
    let axis = before.0.facts().seconds().max(after.0.facts().seconds());
    let panels = [(&before, "before: "), (&after, "after: ")]
        .map(|((clip, seen, found), name)| Panel::Wave(wave(clip, seen, found, axis, name)));
    save(out, &panels, console)
}

fn look(clip: Clip, console: &Console) -> Result<(Clip, Picture, Survey), Failure> {
    let progress = Progress::new(console, "drawing", 2 * clip.facts().frames);
    let seen = picture(&clip, COLUMNS, &progress)?;
    let found = survey(&clip, Ask::default(), &progress)?;
    Ok((clip, seen, found))
}

fn wave<'a>(clip: &Clip, seen: &'a Picture, found: &Survey, axis: f64, name: &str) -> Wave<'a> {
    let (facts, rate) = (clip.facts(), clip.facts().format.rate);
    let seconds = |range: FrameRange| (rate.seconds(range.start), rate.seconds(range.end));
    // Silence is what lies between the sounds.
    let mut silence = Vec::new();
    let mut at = 0;
    let end = FrameRange { start: facts.frames, end: facts.frames };
    for sound in found.silence.sounds.iter().chain([&end]) {
        if sound.start > at {
            let start = at;
            silence.push(seconds(FrameRange { start, end: sound.start }));
        }
        at = sound.end;
    }
    let file = clip.input().name().file_name().unwrap_or_default();
    Wave {
        title: format!("{name}{}, {}", file.to_string_lossy(), facts.format),
        picture: seen,
        seconds: facts.seconds(),
        axis,
        silence,
        loops: facts.loops.iter().map(|l| seconds(l.range)).collect(),
        candidates: Vec::new(),
    }
}

/// A picture may replace an older one, which can always be drawn again, but nothing else.
///
/// # Errors
/// Another file of that name; a picture that could not be drawn or written.
pub fn save(out: &Path, panels: &[Panel<'_>], console: &Console) -> Result<(), Failure> {
    if out.exists() && !is_picture(out) {
        return Err(Failure::Core(OddPath::NotPicture.of(out)));
    }
    let png = draw(panels)?;
    let write = |file: &mut dyn Out| {
        file.write_all(&png).map_err(|source| deft_needle_audio::Error::Write { source })
    };
    put_file(out, &RealDisk::default(), write, |_, ()| Ok(()))?;
    console.warn(format!("plot: {}", written(out)));
    Ok(())
}

fn is_picture(path: &Path) -> bool {
    let mut head = Vec::new();
    let read = deft_needle_audio::read::open_regular(path)
        .and_then(|file| file.take(4).read_to_end(&mut head));
    read.is_ok() && head == b"\x89PNG"
}
