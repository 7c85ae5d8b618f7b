//! How a loop sounds where it goes round.

use crate::args::Seam;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::paths::open_clip;
use deft_needle_audio::edit::LoopEdit;
use deft_needle_audio::num::{real_size, rounded, size};
use deft_needle_audio::seam::{Judged, Verdict, judge};
use deft_needle_audio::survey::selection::resolve;
use deft_needle_audio::units::{Duration, FrameRange};
use deft_needle_audio::{Clip, Error as AudioError};
use serde_json::json;

/// Judges the loop that was named, or each that the clip brings.
pub fn run(args: &Seam, console: &Console) -> Result<Exit, Failure> {
    let clip = open_clip(&args.clip, &args.reading.hints(args.loop_tags.as_ref()))?;
    let mut exit = Exit::Done;
    let mut seams = Vec::new();
    console.say(paint(
        BOLD,
        safe(&clip.input().name().display().to_string()),
    ));
    for range in ranges(args, &clip)? {
        let judged = judge(&clip, range)?;
        console.say(described(&judged, &clip));
        if judged.verdict != Verdict::Good {
            exit = Exit::Short;
        }
        seams.push(judged);
    }
    console.object(&json!({ "clip": clip.input().name(), "seams": seams }));
    Ok(exit)
}

fn ranges(args: &Seam, clip: &Clip) -> Result<Vec<FrameRange>, Failure> {
    let facts = clip.facts();
    let all = FrameRange {
        start: 0,
        end: facts.frames,
    };
    let own: Vec<FrameRange> = facts.loops.iter().map(|l| l.range).collect();
    match args.looped {
        Some(LoopEdit::At(span)) => Ok(vec![resolve(span, facts)?]),
        Some(LoopEdit::All) => Ok(vec![all]),
        Some(LoopEdit::None) => Err(Failure::usage(
            "there is no seam without a loop",
            "name a range, as in --loop 1.5s..end",
        )),
        None if own.is_empty() => Err(Failure::Audio(AudioError::CannotMeet {
            what: format!("{} has no loop points", clip.input().name().display()),
            instead:
                "name a loop, as in --loop 1.5s..end, or --loop all; loops under names of their \
                      own need --loop-tags"
                    .to_owned(),
        })),
        None => Ok(own),
    }
}

fn described(judged: &Judged, clip: &Clip) -> String {
    let rate = clip.facts().format.rate;
    let [start, end] = [judged.range.start, judged.range.end].map(|f| Duration(rate.seconds(f)));
    let style = match judged.verdict {
        Verdict::Good => GOOD,
        Verdict::Audible => WARN,
        Verdict::Bad => BAD,
    };
    let click = match judged.click_db {
        db if db > 0.0 => format!("{db:.1} dB above what the sound does around it"),
        _ => "no more than what the sound does around it".to_owned(),
    };
    let mut lines = vec![
        format!(
            "  {:<10}{start} to {end} ({} frames, from {} up to {})",
            "loop",
            judged.range.len(),
            judged.range.start,
            judged.range.end
        ),
        format!("  {:<10}{}", "seam", paint(style, judged.verdict.word())),
        format!("  {:<10}{click}", "click"),
        format!(
            "  {:<10}{:.1} % of full scale, slope {:.2} % a frame",
            "step",
            judged.step * 100.0,
            judged.slope * 100.0
        ),
        format!(
            "  {:<10}{:+.1} dB from the 50 ms before to the 50 ms after",
            "level", judged.level_db
        ),
    ];
    lines.extend(wave(&judged.around));
    lines.join("\n")
}

/// The wave around the seam in half blocks, the seam in the middle.
fn wave(around: &[f64]) -> Vec<String> {
    const COLUMNS: usize = 64;
    const ROWS: usize = 7;
    let loudest = around.iter().fold(1e-9f64, |most, s| most.max(s.abs()));
    let steps = real_size(2 * ROWS - 1);
    // Where each column lies, from the top, in half rows.
    let heights: Vec<usize> = (0..COLUMNS)
        .map(|column| {
            let at = column * around.len() / COLUMNS;
            let sample = around.get(at).copied().unwrap_or(0.0);
            size(rounded((1.0 - sample / loudest) / 2.0 * steps))
        })
        .collect();
    let row = |row: usize| {
        let mut line = String::from("            ");
        for (column, height) in heights.iter().enumerate() {
            if column == COLUMNS / 2 {
                line += &paint(FAINT, "│");
            }
            line.push(match height {
                height if *height == 2 * row => '▀',
                height if *height == 2 * row + 1 => '▄',
                _ => ' ',
            });
        }
        line.trim_end().to_owned()
    };
    (0..ROWS).map(row).collect()
}
