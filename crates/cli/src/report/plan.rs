//! Plans in words.

use deft_needle_audio::Plan;
use deft_needle_audio::edit::LevelGoal;
use deft_needle_audio::measure::Measure;
use deft_needle_audio::num::{common_divisor, scaled};
use deft_needle_audio::plan::{
    CutReason, Decision, DepthReason, FoundSeam, HeaderReason, LeftOut, Levelling, LoopReason,
    Stretch, Subject,
};
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::shape::route::{Fold, Law};
use deft_needle_audio::shape::separate::Keep;
use deft_needle_audio::spec::Format;
use deft_needle_audio::units::Duration;
use std::fmt::Write as _;

/// A plan with every decision and its reason.
pub fn words(plan: &Plan) -> String {
    let line = |format: Format, frames: u64| {
        let seconds = Duration(format.rate.seconds(frames));
        format!("{format}, {frames} frames, {seconds}")
    };
    let mut text = format!("  from  {}", line(plan.from, plan.from_frames));
    let _ = write!(text, "\n  to    {}", line(plan.to.format, plan.to.frames));
    for decision in &plan.decisions {
        let (about, what, why) = (subject(decision.subject()), what(decision), why(decision));
        let _ = write!(text, "\n  {about:<12} {what}\n  {:<12} because {why}", "");
    }
    text
}

/// A decision in a line, without its reason.
pub fn line(decision: &Decision) -> String {
    format!("{}: {}", subject(decision.subject()), what(decision))
}

/// What a decision is about.
fn subject(subject: Subject) -> &'static str {
    match subject {
        Subject::File => "whole file",
        Subject::Samples => "samples",
        Subject::Dc => "DC",
        Subject::Cut => "cut",
        Subject::Silence => "silence",
        Subject::Length => "length",
        Subject::Separate => "separate",
        Subject::Channels => "channels",
        Subject::Tone => "tone",
        Subject::Voicing => "voicing",
        Subject::Speed => "speed",
        Subject::SampleRate => "sample rate",
        Subject::Level => "level",
        Subject::Fades => "fades",
        Subject::BitDepth => "bit depth",
        Subject::Encoding => "encoding",
        Subject::Header => "header",
        Subject::Loop => "loop",
        Subject::Chunks => "chunks",
    }
}

fn stretch(part: Stretch) -> String {
    let Stretch { start, end } = part;
    format!("from {} to {} ({})", Duration(start), Duration(end), Duration(end - start))
}

/// How far the greatest and the smallest lie apart, as far as a crossfade minds it.
fn spread(bands: &[f64]) -> f64 {
    let bands = bands.iter().map(|band| band.clamp(0.0, 1.0));
    let (least, most) = bands.fold((1.0f64, 0.0f64), |(a, b), band| (a.min(band), b.max(band)));
    most - least
}

/// What goes of low and high frequencies.
fn tone_cut(low: Option<f64>, high: Option<f64>) -> String {
    let side = |word: &str, hertz: f64| format!("{word} {hertz} Hz");
    let sides = [low.map(|hertz| side("below", hertz)), high.map(|hertz| side("above", hertz))];
    let sides: Vec<String> = sides.into_iter().flatten().collect();
    format!("frequencies {} are cut (24 dB/octave)", sides.join(" and "))
}

fn milliseconds(seconds: f64) -> String {
    format!("{:.2} ms", 1000.0 * seconds)
}

/// What is done.
pub fn what(decision: &Decision) -> String {
    match decision {
        Decision::KeptWhole => "kept as it is, byte for byte".to_owned(),
        Decision::SamplesCopied => "copied bit for bit".to_owned(),
        Decision::FramesHeld { frames } => format!("{frames} frames, as many as there are"),
        Decision::OffsetRemoved { percent } => {
            format!("an offset of {percent:.2} % of full scale is removed")
        }
        Decision::Cut { part, reason: CutReason::Loudest { .. } } => {
            format!("the loudest passage, {}", stretch(*part))
        }
        Decision::Cut { part, .. } | Decision::LoopSet { part, .. } => stretch(*part),
        Decision::EndsSnapped { frames: [a, b] } => format!("the ends move by {a} and {b} frames"),
        Decision::SilenceTrimmed { seconds: [a, b], .. } => {
            format!("{} trimmed from the start, {} from the end", Duration(*a), Duration(*b))
        }
        Decision::Shortened { to, .. } => format!("cut to {} with a fade", Duration(*to)),
        Decision::Separated { keep: Keep::Shared } => {
            "what left and right share is kept: a guide, not the clip".to_owned()
        }
        Decision::Separated { keep: Keep::Different } => {
            "what differs between left and right is kept".to_owned()
        }
        Decision::Routed { from, to, law } => format!("{from} to {to}: {}", route(law)),
        Decision::Voiced { voicing } => format!("{}: {}", voicing.name, voicing.about),
        Decision::SpeedChanged { factor } => format!("{factor} times as fast, and as high"),
        Decision::Stretched { from, to } => {
            let (from, to, factor) = (Duration(*from), Duration(*to), to / from);
            format!("time-stretched from {from} to {to} ({factor:.3} times), pitch unchanged")
        }
        Decision::Reversed => "backwards, from the end to the start".to_owned(),
        Decision::ToneCut { low, high } => tone_cut(*low, *high),
        Decision::Resampled { from, to, frames, become_frames } => {
            let divisor = u32::try_from(common_divisor((*from).into(), (*to).into())).unwrap_or(1);
            let (up, down) = (to / divisor, from / divisor);
            format!("{from} to {to} Hz (by {up}/{down}): {frames} frames become {become_frames}")
        }
        Decision::Gained { gain, level } => gained(*gain, level.as_ref()),
        Decision::PeaksLimited { ceiling, .. } => {
            format!("a limiter holds true peaks at {ceiling:.1} dBTP")
        }
        Decision::PeaksClipped { peak } => format!("peaks of {peak:.1} dB are clipped"),
        Decision::Faded { seconds: [a, b] } => {
            format!("in over {}, out over {}", Duration(*a), Duration(*b))
        }
        Decision::Padded { seconds: [a, b] } => {
            format!("{} added before, {} after", Duration(*a), Duration(*b))
        }
        Decision::FilledUp { frames, .. } => format!("{frames} frames added after the last"),
        Decision::Encoded { from, to, lossy, dither, .. } => encoded((from, to), *lossy, *dither),
        Decision::HeaderKind { header, .. } => header.to_string(),
        Decision::ChunksLeftOut { ids, .. } => format!("left out: {}", ids.join(", ")),
        Decision::MarkersLeftOut(_) => "the clip's markers are left out".to_owned(),
        Decision::TagsLeftOut { names, .. } => format!("tags left out: {}", names.join(", ")),
        other => loops(other),
    }
}

/// What is done about loops.
fn loops(decision: &Decision) -> String {
    match decision {
        Decision::LoopEndMoved { frames, seconds } => {
            format!("the end moves by {frames:+} frames ({:+.2} ms)", 1000.0 * seconds)
        }
        Decision::TailCut { seconds, .. } => {
            format!("the tail of {} is cut off", Duration(*seconds))
        }
        Decision::TailWrapped { seconds, later: false } => {
            format!("the tail ({}) is wrapped onto the loop start", Duration(*seconds))
        }
        Decision::TailWrapped { seconds, later: true } => format!(
            "the tail ({}) is wrapped onto the second pass; both loop points move later by that",
            Duration(*seconds)
        ),
        Decision::Textured { pieces, fade, seconds } => format!(
            "a seamless loop of {} from {pieces} pieces, crossfaded over {}",
            Duration(*seconds),
            Duration(*fade)
        ),
        Decision::Crossfaded { seconds, .. } => {
            format!("{} crossfade at the loop point", Duration(*seconds))
        }
        Decision::LoopLength { frames, multiple, rounds, cents, .. } => {
            let whole = match multiple {
                1 => format!("exactly {frames} frames"),
                multiple => {
                    format!("exactly {frames} frames, {} times {multiple}", frames / multiple)
                }
            };
            let retuned = match cents {
                0.0 => "not retuned".to_owned(),
                cents => format!("retuned by {cents:+.3} cents"),
            };
            match rounds {
                1 => format!("{whole} ({retuned})"),
                rounds => format!("{whole} ({rounds} rounds, {retuned})"),
            }
        }
        Decision::LoopMoved { frames, seconds, .. } => {
            format!("both points move {frames} frames later ({})", milliseconds(*seconds))
        }
        Decision::SeamError { decibels } => {
            format!("conversion leaves an error of up to {decibels:.0} dBFS at the seam")
        }
        Decision::LoopsWhole { .. } => "no loop points: the whole file loops".to_owned(),
        Decision::LoopsLeftOut(_) => "the clip's loop points are left out".to_owned(),
        Decision::PlaysForward { direction, .. } => format!("a {direction} loop plays forward"),
        Decision::ReleaseUntold { .. } => "the release loop becomes an ordinary loop".to_owned(),
        Decision::SecondForRelease { .. } => "the second loop becomes the release loop".to_owned(),
        Decision::LoopPlays { direction } => format!("plays {direction}"),
        Decision::FirstLoops { .. } => "only the first loops are kept".to_owned(),
        Decision::LoopsRounded { .. } => {
            "loop points move to the nearest frames of the new rate".to_owned()
        }
        _ => "this version has no words for a decision".to_owned(),
    }
}

fn route(law: &Law) -> String {
    let how = match law.fold {
        Fold::Requested => return law.route.to_string(),
        Fold::Centre => "the mono clip goes to the centre, the others stay silent",
        Fold::All => return format!("copied to all {} channels", law.route.0.len()),
        Fold::Front => "left and right go to the front, the others stay silent",
        Fold::Average => "the average of left and right",
        Fold::AverageOfAll => "the average of all channels",
        Fold::Sides => "back and side are summed",
        Fold::Bs775 => "the sums of ITU-R BS.775, low frequencies left out",
    };
    match law.scale {
        Some(decibels) if law.fold != Fold::Average => {
            format!("{how}, {decibels:.1} dB in all so that it cannot clip")
        }
        _ => how.to_owned(),
    }
}

fn gained(gain: f64, level: Option<&Levelling>) -> String {
    let Some(Levelling { now, goal, measure, integrated, of_both, .. }) = level else {
        return format!("{gain:+.1} dB");
    };
    let unit = match goal {
        LevelGoal::Peak(_) => "dBFS",
        LevelGoal::TruePeak(_) => "dBTP",
        LevelGoal::Loudness(_) => "LUFS",
    };
    let how = match (goal, measure) {
        _ if *of_both => ", max momentary of both since one is shorter than 3 s",
        (LevelGoal::Loudness(_), Measure::Momentary) => {
            ", max momentary since it is shorter than 3 s"
        }
        (LevelGoal::Loudness(_), Measure::Padded) => {
            ", with silence added since it is shorter than 0.4 s"
        }
        _ => "",
    };
    let other = integrated.filter(|other| (other - gain).abs() >= 0.1);
    let other =
        other.map_or_else(String::new, |by| format!("; integrated it would be {by:+.1} dB"));
    format!("{gain:+.1} dB: from {now:.1} {unit} to {goal}{how}{other}")
}

fn encoded((from, to): (&str, &str), lossy: bool, dither: Dither) -> String {
    let how = match dither {
        Dither::None if lossy => "",
        Dither::None => " without dither",
        Dither::Triangular => " with TPDF dither",
        Dither::Shaped => " with noise-shaped TPDF dither",
    };
    match (from == to, lossy) {
        (true, true) => format!("encoded as {to} again{how}"),
        (true, false) => format!("rounded to {to} again{how}"),
        (false, _) => format!("{from} to {to}{how}"),
    }
}

fn found(seam: FoundSeam) -> String {
    format!("its seam is {}", seam.verdict.word())
}

/// Why it is done.
pub fn why(decision: &Decision) -> String {
    match decision {
        Decision::KeptWhole => "it meets the spec already".to_owned(),
        Decision::SamplesCopied => "encoding, rate and channels are right already".to_owned(),
        Decision::FramesHeld { .. } => "the clip is cut short: its header promises more".to_owned(),
        Decision::OffsetRemoved { .. } => "it costs headroom and clicks at the ends".to_owned(),
        Decision::Cut { reason, .. } => match reason {
            CutReason::Requested => "requested".to_owned(),
            CutReason::Piece { number } => format!("segment {number} was requested"),
            CutReason::Seam(seam) => format!("it loops best there as a whole: {}", found(*seam)),
            CutReason::Loudest { longest } => {
                format!("{} is the longest that is allowed", Duration(*longest))
            }
        },
        Decision::EndsSnapped { .. } => "they snap to zero crossings".to_owned(),
        Decision::SilenceTrimmed { below, noise: Some(noise), .. } => {
            format!("it is below {below:.1} dBFS, and the recording's noise is at {noise:.1} dBFS")
        }
        Decision::SilenceTrimmed { below, .. } => format!("it is below {below} dBFS"),
        Decision::Stretched { from, to } if !(0.75..=1.5).contains(&(to / from)) => {
            "requested; listen to it: attacks may double or soften this far from the original length".to_owned()
        }
        Decision::Shortened { from, .. } => format!("it would last {}", Duration(*from)),
        Decision::Routed { law, to, .. } if law.fold != Fold::Requested => {
            format!("required by the spec: {to}")
        }
        Decision::Resampled { from, to, .. } if to < from => format!(
            "required by the spec; content above {} Hz is lost",
            scaled((*to).into(), 475, 1000)
        ),
        Decision::Resampled { .. } => "required by the spec".to_owned(),
        Decision::Gained { level: Some(level), .. } if level.of_stock => {
            "as loud as the stock".to_owned()
        }
        Decision::PeaksLimited { peak, .. } => format!("peaks would reach {peak:.1} dB"),
        Decision::PeaksClipped { .. } => "clipping was allowed".to_owned(),
        Decision::FilledUp { unit, .. } => {
            format!("nothing in the file counts less than {unit}")
        }
        Decision::Encoded { reason, .. } => match reason {
            DepthReason::Required => "required by the spec",
            DepthReason::SixteenBitInput => "it is encoded from 16 bits",
            DepthReason::BitsLost => "bits are lost",
            DepthReason::EightBits => "bit depth drops to 8",
            DepthReason::NothingLost => "no bits are lost",
            DepthReason::Float => "floating point needs none",
        }
        .to_owned(),
        Decision::HeaderKind { reason, .. } => match reason {
            HeaderReason::Required => "the target's files have it",
            HeaderReason::Kept => "the clip has it",
            HeaderReason::Plainest => "every loader knows it",
            HeaderReason::Needed => "more than 2 channels or 16 bits need it",
        }
        .to_owned(),
        Decision::LoopsLeftOut(left) | Decision::MarkersLeftOut(left) => left_out(left),
        Decision::TagsLeftOut { reason, .. } | Decision::ChunksLeftOut { reason, .. } => {
            left_out(reason)
        }
        other => why_loops(other),
    }
}

fn why_loops(decision: &Decision) -> String {
    match decision {
        Decision::LoopSet { reason: LoopReason::Found(seam), .. } => {
            format!("found: {}", found(*seam))
        }
        Decision::LoopSet { reason: LoopReason::Crossfade, .. } => {
            "the crossfade needs what would be the loop's first sound".to_owned()
        }
        Decision::LoopEndMoved { .. } => {
            "the waveform there is most like that at the start".to_owned()
        }
        Decision::TailCut { requested: false, .. } => {
            "the loop ends there; --tail keep keeps it".to_owned()
        }
        Decision::TailWrapped { later: true, .. } => {
            "requested; the first pass stays dry".to_owned()
        }
        Decision::Crossfaded { bands, .. } if spread(bands) > 0.4 => {
            let [low, middle, high] = bands;
            format!(
                "requested; low, middle and high each by their own correlation ({low:.2}, {middle:.2}, {high:.2})"
            )
        }
        Decision::Crossfaded { correlation, .. } => {
            let law = match correlation {
                c if *c > 0.7 => "near equal-gain",
                c if *c < 0.3 => "near equal-power",
                _ => "between equal-power and equal-gain",
            };
            format!("requested; {law} (correlation {correlation:.2})")
        }
        Decision::LoopLength { rounds: 1, .. } => "a loop is a whole number of frames".to_owned(),
        Decision::LoopLength { once, .. } => {
            format!("one round would retune it by {once:+.2} cents")
        }
        Decision::LoopMoved { multiple: 1, .. } => {
            "there the filter sees the loop alone, and no longer what comes before it".to_owned()
        }
        Decision::LoopMoved { multiple, .. } => {
            format!(
                "the loop start has to be a multiple of {multiple} frames; the sound moves along"
            )
        }
        Decision::SeamError { .. } => {
            "the sound after the loop is kept, so its points stay; --tail cut makes it exact"
                .to_owned()
        }
        Decision::LoopsWhole { container } => format!("{container} has no place for them"),
        Decision::PlaysForward { container, .. } => format!("{container} holds forward loops only"),
        Decision::ReleaseUntold { container } => format!("{container} has no release loops"),
        Decision::SecondForRelease { container } => {
            format!("{container} holds one sustain loop and one release loop")
        }
        Decision::FirstLoops { most, container } => format!("{container} holds {most}"),
        Decision::LoopsRounded { excess } => {
            format!("a loop is {excess:+.2} frames off its exact length")
        }
        _ => "requested".to_owned(),
    }
}

fn left_out(reason: &LeftOut) -> String {
    match reason {
        LeftOut::Forbidden => "the target takes none".to_owned(),
        LeftOut::NoPlace { container } => format!("{container} has no place for them"),
        LeftOut::OnlySamples => "nothing but the samples is wanted".to_owned(),
        LeftOut::OnlyLoops => "nothing but loop points is wanted".to_owned(),
        LeftOut::NotUsed => "they are in a part that is not used".to_owned(),
        LeftOut::Foreign { container } => format!("they belong to {container}"),
        LeftOut::Stretched => "a loop does not stay exact through time-stretching".to_owned(),
        LeftOut::Filler => "they are padding, written new, or larger than 4 MiB".to_owned(),
        LeftOut::Outdated { keeps: true } => {
            "they describe the clip as it was; --tags keep keeps them".to_owned()
        }
        LeftOut::Outdated { keeps: false } => "they describe the clip as it was".to_owned(),
    }
}
