//! A seam to hear and to see.

use super::report;
use crate::args::Seam;
use crate::commands::{draw, hear};
use crate::console::{Console, written};
use crate::failure::Failure;
use crate::plot::{COLUMNS, Curve, Panel, Wave};
use crate::progress::Progress;
use deft_needle_audio::Clip;
use deft_needle_audio::hear::Programme;
use deft_needle_audio::measure::picture::picture;
use deft_needle_audio::num::{real, real_size};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::seam::{Candidate, Judgement};
use deft_needle_audio::shape::windows::windows;
use deft_needle_audio::units::FrameRange;

/// What is heard on either side of the seam, in seconds.
const HEARD: f64 = 2.0;
/// What is drawn on either side, in seconds.
const DRAWN: f64 = 0.012;

/// Writes what was asked for.
///
/// # Errors
/// Those of reading, writing and drawing.
pub fn prove(
    args: &Seam,
    name: &str,
    clip: &Clip,
    seam: &Judgement,
    found: &[Candidate],
    console: &Console,
) -> Result<(), Failure> {
    let range = seam.range;
    if let Some(out) = &args.hear {
        let programme = Programme::across(clip, range, HEARD, args.rounds)?;
        let clips = std::slice::from_ref(clip);
        hear::write(out, args.overwrite, &programme, clips, console)?;
        let written = written(out);
        let side = HEARD.min(clip.facts().format.rate.seconds(range.len()));
        console.warn(format!(
            "written: {written}, {side:.1} s on either side of the seam, {} times",
            args.rounds
        ));
    }
    if let Some(out) = &args.plot {
        plot(name, clip, seam, found, out, console)?;
    }
    Ok(())
}

/// The clip with its loops, the wave across the seam, and both ends over each other.
fn plot(
    name: &str,
    clip: &Clip,
    seam: &Judgement,
    found: &[Candidate],
    out: &std::path::Path,
    console: &Console,
) -> Result<(), Failure> {
    let (facts, range) = (clip.facts(), seam.range);
    let rate = facts.format.rate;
    let progress = Progress::new(console, "writing", facts.frames);
    let seen = picture(clip, COLUMNS, &progress)?;
    let seconds = |range: FrameRange| (rate.seconds(range.start), rate.seconds(range.end));
    let wave = Wave {
        title: format!("{name}, {}", facts.format),
        picture: &seen,
        seconds: facts.seconds(),
        axis: facts.seconds(),
        silence: Vec::new(),
        loops: vec![seconds(range)],
        candidates: found.iter().skip(1).map(|c| seconds(c.seam.range)).collect(),
    };
    let side = rate.frames(DRAWN).min(range.len()).max(2);
    let around = |place: u64| FrameRange {
        start: place.saturating_sub(side),
        end: (place + side).min(facts.frames),
    };
    let ends = [around(range.end), around(range.start)];
    let blocks = windows(clip, &ends, &Unobserved)?;
    // In milliseconds from the seam.
    let points = |which: usize, place: u64, keep: fn(f64) -> bool| -> Vec<(f64, f64)> {
        let first = real(place) - real(ends[which].start);
        let samples = blocks[which].channels()[0].iter().enumerate();
        samples
            .map(|(n, s)| (1000.0 * (real_size(n) - first) / rate.real(), *s))
            .filter(|point| keep(point.0))
            .collect()
    };
    let heard =
        [points(0, range.end, |ms| ms < 0.0), points(1, range.start, |ms| ms >= 0.0)].concat();
    let curve = |name: &str, points: Vec<(f64, f64)>| Curve { name: name.to_owned(), points };
    let all: fn(f64) -> bool = |_| true;
    let panels = [
        Panel::Wave(wave),
        Panel::Seam {
            title: format!(
                "Waveform across the seam (first channel): {}, click {}",
                seam.verdict.word(),
                report::heard(seam)
            ),
            curves: vec![curve("end, then start", heard)],
        },
        Panel::Seam {
            title: "Loop end and loop start overlaid; they should match".to_owned(),
            curves: vec![
                curve("around the end", points(0, range.end, all)),
                curve("around the start", points(1, range.start, all)),
            ],
        },
    ];
    draw::save(out, &panels, console)
}
