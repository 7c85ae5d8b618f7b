//! What fit has done, or would do, in words.

use super::FitLine;
use crate::commands::{level, loudness};
use crate::console::{BOLD, Console, GOOD, paint, safe, written};
use crate::paths::{extension, is_stream};
use crate::report::notice::words;
use crate::report::plan;
use deft_needle_audio::Plan;
use deft_needle_audio::plan::Work;
use deft_needle_audio::spec::{Container, Kind};
use deft_needle_audio::units::Duration;
use std::fmt::Write;
use std::path::Path;

/// Tells of one clip.
pub fn report(fitted: &FitLine, console: &Console) {
    let FitLine { clip, out, plan, outcome, bit_rate, levels, notices } = fitted;
    let named = |path: &Path| safe(&path.display().to_string());
    let shown = match outcome {
        Some(_) => written(out),
        None => paint(BOLD, named(out)),
    };
    let names = [named(clip), shown];
    let to_stream = is_stream(out);
    if !to_stream {
        if let Some(named) = odd_name(out, plan.to.format.container) {
            console.warn(named);
        }
        console.say(described(plan, &names, *bit_rate, outcome.is_none() || console.verbose()));
    }
    if let Some(levels) = levels {
        let sides = ["before", "after"].iter().zip(levels);
        for (name, found) in sides.filter_map(|(name, side)| Some((name, side.survey.as_ref()?))) {
            console.say(format!(
                "  {name:<8}  peak {}, true peak {}, loudness {}",
                level(found.peak_dbfs, "dBFS"),
                level(found.true_peak_dbtp, "dBTP"),
                loudness(found.loudness)
            ));
        }
    }
    for notice in notices {
        console.warn(format!("{}: {}", names[0], safe(&words(notice))));
    }
}

fn odd_name(out: &Path, is: Container) -> Option<String> {
    let extension = extension(out);
    let claimed = Container::from_extension(&extension)?;
    let wrong = claimed != is && !is.facts().has_extension(&extension);
    wrong.then(|| {
        let out = safe(&out.display().to_string());
        format!("{out} is named .{extension} but will be {is}, as the spec says")
    })
}

/// The plan in full, or in one line.
fn described(
    plan: &Plan,
    [clip, out]: &[String; 2],
    bit_rate: Option<u64>,
    in_full: bool,
) -> String {
    let mut text = format!("{} to {}", paint(BOLD, clip), out);
    if in_full {
        let _ = write!(text, "\n{}", plan::words(plan));
        if let Some(rate) = real_rate(plan, bit_rate) {
            let _ = write!(text, "\n  came out at {rate}");
        }
        return text;
    }
    let how = match &plan.work {
        Work::Nothing => "kept byte for byte: it meets the spec already",
        Work::Rewrap => "samples copied bit for bit, new header",
        Work::Render(_) => "converted and verified",
    };
    let length = Duration(plan.to.seconds());
    let _ = write!(text, "\n  {}, {length}; {}", plan.to.format, paint(GOOD, how));
    if let Some(rate) = real_rate(plan, bit_rate) {
        let _ = write!(text, ", {rate}");
    }
    text
}

/// What a lossy encoding really takes: a quality says nothing of it, and a bit rate is only aimed at.
fn real_rate(plan: &Plan, bit_rate: Option<u64>) -> Option<String> {
    let codec = plan.to.format.encoding.codec;
    let varies = codec.kind() == Kind::Lossy && codec.facts().decoded_bits.is_none();
    let rate = bit_rate.filter(|_| varies && matches!(plan.work, Work::Render(_)))?;
    Some(format!("{:.0} kbit/s", deft_needle_audio::num::real(rate) / 1000.0))
}
