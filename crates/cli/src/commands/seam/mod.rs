//! Loops: found, judged, proved and set.

mod proof;
mod report;

use super::fit::{make_folder, spec_of_name};
use crate::args::Seam;
use crate::console::Console;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::is_stream;
use crate::paths::text;
use crate::progress::Progress;
use crate::report::plan as words;
use deft_needle_audio::Unmet;
use deft_needle_audio::edit::{LoopEdit, Moment, Span, SpanEnd, Time};
use deft_needle_audio::plan::select::{near, resolve};
use deft_needle_audio::plan::{Decision, LoopReason, Reference, Subject};
use deft_needle_audio::seam::{
    Bounds, Candidate, Judgement, Smoothing, Verdict, find, judge, smooth,
};
use deft_needle_audio::spec::{Demand, Spec};
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::{Clip, Edits, Error as AudioError};
use deft_needle_core::disk::RealDisk;
use deft_needle_core::error::Error as CoreError;
use deft_needle_core::run::{Fitting, open_written};
use std::path::Path;

/// How far from `--near` an end may lie, in seconds, and a loop's length from `--length`, as a part of it.
const NEAR: f64 = 1.0;
const ABOUT: f64 = 0.01;

/// What was looked at.
struct Seen {
    /// Loops that were found, the best first; empty where one was named.
    found: Vec<Candidate>,
    /// What was judged, in the clip or in what was made of it.
    seams: Vec<Judgement>,
    /// What a crossfade would make of the first of them, where it is heard.
    smoothing: Option<Smoothing>,
}

/// Finds or takes the loop, smooths it where that is asked, and judges what comes of it.
pub fn run(args: &Seam, console: &Console) -> Result<Exit, Failure> {
    if args.out.as_deref().or(args.hear.as_deref()).is_some_and(is_stream) {
        return Err(Failure::usage(
            "the report goes to standard output, and nothing else",
            "name a file",
        ));
    }
    let clip = args.of.opener(&args.clip, args.options.hints())?.open(&args.clip)?;
    let (ranges, found) = ranges(args, &clip, console)?;
    let folder = tempfile::tempdir().map_err(CoreError::write("make", &std::env::temp_dir()))?;
    let made = made(args, &clip, ranges[0], folder.path(), console)?;
    let subject = made.as_ref().unwrap_or(&clip);
    let judged = |ranges: Vec<FrameRange>| -> Result<Vec<Judgement>, AudioError> {
        ranges.into_iter().map(|r| judge(subject, r)).collect()
    };
    let seams = match (&made, found.first()) {
        (Some(made), _) => judged(made.facts().loops.iter().map(|l| l.range).collect())?,
        (None, Some(best)) => vec![best.seam.clone()],
        (None, None) => judged(ranges)?,
    };
    let smoothing = match (&made, seams.first()) {
        _ if made.is_none() && !found.is_empty() => found[0].smoothing,
        // What is smoothed already is told as it is.
        (None, Some(seam)) if seam.verdict != Verdict::Good => {
            smooth(&clip, seam, &Progress::new(console, "measuring", clip.facts().frames))?
        }
        _ => None,
    };
    let seen = Seen { found, seams, smoothing };
    report::report(args, &clip, &seen, made.is_some(), console);
    if let Some(first) = seen.seams.first() {
        let file = clip.input().name().file_name().unwrap_or_default();
        let smoothed = match (&made, &args.out) {
            (Some(_), None) => ", smoothed",
            _ => "",
        };
        let name = format!("{}{smoothed}", file.to_string_lossy());
        // Places of other loops are those of the clip as it was.
        let others: &[Candidate] = if made.is_some() { &[] } else { &seen.found };
        proof::prove(args, &name, subject, first, others, console)?;
    }
    console.object(|| object::Seams {
        clip: text(clip.input().name()),
        found: &seen.found,
        seams: &seen.seams,
        smoothing: seen.smoothing,
        out: args.out.as_deref().map(text),
    });
    let heard = |seam: &Judgement| seam.verdict != Verdict::Good;
    Ok(match seen.seams.iter().any(heard) {
        true => Exit::Short,
        false => Exit::Done,
    })
}

/// The loops to judge, and those that were found.
fn ranges(
    args: &Seam,
    clip: &Clip,
    console: &Console,
) -> Result<(Vec<FrameRange>, Vec<Candidate>), Failure> {
    let facts = clip.facts();
    // What turns back at its ends has no seam.
    let forward = facts.loops.iter().filter(|l| l.direction.is_forward());
    let own: Vec<FrameRange> = forward.map(|l| l.range).collect();
    let asks = &args.finding;
    let narrowed = asks.near.is_some()
        || asks.from.is_some()
        || asks.to.is_some()
        || asks.shortest.is_some()
        || asks.longest.is_some()
        || asks.length.is_some();
    let wanted = match args.options.edits.looped {
        Some(LoopEdit::At(span)) => return Ok((vec![resolve(span, facts)?], Vec::new())),
        Some(LoopEdit::All) => {
            let (start, end) = (0, facts.frames);
            return Ok((vec![FrameRange { start, end }], Vec::new()));
        }
        Some(LoopEdit::None) => {
            return Err(Failure::usage(
                "there is no seam without a loop",
                "name a range, as in --loop 1.5s..end",
            ));
        }
        None if !own.is_empty() && !asks.find && !narrowed => return Ok((own, Vec::new())),
        Some(LoopEdit::Auto { start, end }) => {
            let all = FrameRange { start: 0, end: facts.frames };
            near(Bounds::any(facts), [start, end], all, facts)?
        }
        None => wanted(args, clip)?,
    };
    let progress = Progress::new(console, "searching", facts.frames);
    let most = deft_needle_audio::num::size(asks.most.into());
    let found = find(clip, &wanted, most, &progress)?;
    let best = found.first().map(|best| best.seam.range);
    Ok((best.into_iter().collect(), found))
}

/// What was typed, as the library takes it.
fn wanted(args: &Seam, clip: &Clip) -> Result<Bounds, Failure> {
    let facts = clip.facts();
    let rate = facts.format.rate;
    let mut wanted = Bounds::any(facts);
    if let Some(time) = args.finding.shortest {
        wanted.lengths.start = time.frames(rate).max(16);
    }
    if let Some(time) = args.finding.longest {
        let most = time.frames(rate);
        wanted.lengths.end = wanted.lengths.end.min(most + 1);
        if args.finding.shortest.is_none() {
            wanted.lengths.start = wanted.lengths.start.min(most / 2).max(16);
        }
    }
    if let Some(time) = args.finding.length {
        let frames = time.frames(rate);
        let about = rate.frames(time.seconds(rate) * ABOUT).max(rate.frames(0.002));
        wanted.lengths =
            FrameRange { start: frames.saturating_sub(about).max(16), end: frames + about + 1 };
    }
    let between = |span: Span| -> Result<FrameRange, Failure> {
        let range = resolve(span, facts)?;
        Ok(FrameRange { end: range.end + 1, ..range })
    };
    if let Some(span) = args.finding.from {
        wanted.starts = between(span)?;
    }
    if let Some(span) = args.finding.to {
        wanted.ends = between(span)?;
    }
    if let Some(span) = args.finding.near {
        let range = resolve(span, facts)?;
        let reach = rate.frames(NEAR);
        let about = |frame: u64| FrameRange {
            start: frame.saturating_sub(reach),
            end: (frame + reach).min(facts.frames) + 1,
        };
        wanted.starts = about(range.start);
        wanted.ends = about(range.end);
        if args.finding.shortest.is_none() && args.finding.length.is_none() {
            wanted.lengths.start = range.len().saturating_sub(2 * reach).max(16);
        }
    }
    wanted.check(facts)?;
    Ok(wanted)
}

/// The clip with its loop, as a file: where that was asked, or where the seam is smoothed.
fn made(
    args: &Seam,
    clip: &Clip,
    range: FrameRange,
    private: &Path,
    console: &Console,
) -> Result<Option<Clip>, Failure> {
    let smoothing = Edits { looped: None, ..args.options.edits.clone() };
    if args.out.is_none() && smoothing == Edits::default() {
        return Ok(None);
    }
    let frames = |at: u64| Moment::FromStart(Time::Frames(at));
    let edits = Edits {
        looped: Some(LoopEdit::At(Span {
            start: Some(frames(range.start)),
            end: SpanEnd::At(frames(range.end)),
        })),
        ..smoothing
    };
    let edits = match args.options.edits.looped {
        // Its crossfade takes what would be the first sound.
        Some(LoopEdit::All) => Edits { looped: Some(LoopEdit::All), ..edits },
        _ => edits,
    };
    let spec = match &args.out {
        Some(out) => spec_of_name(out).unwrap_or(Spec::ANY),
        None => "wav f32 any any".parse::<Spec>()?,
    };
    let out = match &args.out {
        Some(out) => out.clone(),
        None => private.join("smoothed.wav"),
    };
    let mut demand = Demand::from(spec);
    demand.loop_tags.clone_from(&args.options.loop_tags);
    let progress = Progress::new(console, "measuring", clip.facts().frames);
    let reference = Reference::default();
    let fitting = Fitting { clip, demand: &demand, edits: &edits, rule: None, reference };
    let plan = fitting.plan(&progress)?;
    if plan.to.loops.is_empty() {
        return Err(Failure::Audio(AudioError::CannotMeet(Unmet::LoopRefused {
            container: Some(plan.to.format.container.to_string()),
        })));
    }
    let disk = RealDisk::default();
    make_folder(&out, &disk)?;
    fitting.put(&plan, &out, args.overwrite, None, &disk, &progress)?;
    let requested =
        |d: &Decision| matches!(d, Decision::LoopSet { reason: LoopReason::Requested, .. });
    let told = plan.decisions.iter().filter(|d| d.subject() == Subject::Loop && !requested(d));
    for decision in told {
        console.warn(format!("{}, because {}", words::what(decision), words::why(decision)));
    }
    Ok(Some(open_written(&out, &plan)?))
}
