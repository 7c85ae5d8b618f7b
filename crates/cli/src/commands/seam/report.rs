//! What was found out about loops, in words.

use super::Seen;
use crate::args::Seam;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use deft_needle_audio::Clip;
use deft_needle_audio::num::{real_size, rounded, size};
use deft_needle_audio::seam::{Bars, Candidate, Judgement, Reason, Smoothing, UNHEARD, Verdict};
use deft_needle_audio::units::{Duration, SampleRate};

/// Tells of the loops that were found, and of the seams that were judged.
pub fn report(args: &Seam, clip: &Clip, seen: &Seen, made: bool, console: &Console) {
    let rate = clip.facts().format.rate;
    console.say(paint(BOLD, safe(&clip.input().name().display().to_string())));
    if !seen.found.is_empty() {
        console.say(table(&seen.found, rate));
    }
    if let (true, Some(out)) = (made, &args.out) {
        let name = safe(&out.display().to_string());
        console.say(format!("  {:<10}{}", "written", paint(BOLD, name)));
    }
    for judged in &seen.seams {
        console.say(described(judged, rate, console.plain()));
    }
    if made {
        return;
    }
    if let Some(smoothing) = &seen.smoothing {
        console.say(format!("  {:<10}{}", "crossfade", smoothed(smoothing)));
    }
    if let Some(best) = seen.found.first() {
        let range = best.seam.range;
        let crossfade = match &seen.smoothing {
            Some(smoothing) => format!(" --crossfade {}", typed(smoothing)),
            None => String::new(),
        };
        console.say(format!(
            "  {:<10}fit or swap with --loop {}smp..{}smp{crossfade}, or -o here",
            "set it", range.start, range.end
        ));
        let mends = |smoothing: &Smoothing| smoothing.verdict == Verdict::Good;
        if best.seam.verdict != Verdict::Good && !seen.smoothing.as_ref().is_some_and(mends) {
            console.say(format!(
                "  {:<10}for rain, engines, crowds: fit or swap with --texture instead",
                "or"
            ));
        }
    }
}

/// A crossfade as it is typed.
fn typed(smoothing: &Smoothing) -> String {
    match smoothing.seconds {
        seconds if seconds < 1.0 => format!("{:.0}ms", 1000.0 * seconds),
        seconds => format!("{seconds}s"),
    }
}

fn smoothed(smoothing: &Smoothing) -> String {
    let becomes = match smoothing.verdict {
        Verdict::Good => "makes it good",
        Verdict::Audible => "leaves it audible",
        Verdict::Bad => "does not fix it",
    };
    format!("--crossfade {} {becomes}", typed(smoothing))
}

fn style(verdict: Verdict) -> anstyle::Style {
    match verdict {
        Verdict::Good => GOOD,
        Verdict::Audible => WARN,
        Verdict::Bad => BAD,
    }
}

/// One line for each loop that was found.
fn table(found: &[Candidate], rate: SampleRate) -> String {
    let mut lines = vec![format!(
        "  {:>2}  {:>10}  {:>10}  {:>9}  {:<22}  {:<7}  {}",
        "", "from", "to", "lasts", "bars", "seam", "why"
    )];
    for (number, one) in (1..).zip(found) {
        let seam = &one.seam;
        let at = |frame: u64| clock(rate.seconds(frame));
        let word = format!("{:<7}", seam.verdict.word());
        lines.push(format!(
            "  {number:>2}  {:>10}  {:>10}  {:>9}  {:<22}  {}  {}",
            at(seam.range.start),
            at(seam.range.end),
            Duration(rate.seconds(seam.range.len())).to_string(),
            one.bars.as_ref().map(bars).unwrap_or_default(),
            paint(style(seam.verdict), word),
            why(one),
        ));
    }
    lines.join("\n")
}

/// A length in bars, as musicians say it.
fn bars(bars: &Bars) -> String {
    let s = if bars.count == 1 { "" } else { "s" };
    let beats = if bars.beats == 4 { String::new() } else { format!(" of {}", bars.beats) };
    format!("{} bar{s}{beats} at {:.0} bpm", bars.count, bars.tempo)
}

fn why(one: &Candidate) -> &'static str {
    match one.reason {
        Reason::Whole => "whole file",
        Reason::Bars => "whole bars to the end",
        Reason::Return => "the end repeats the start",
        Reason::Repeat => "repeated section",
        Reason::Alike => "similar ends",
    }
}

/// Rounded as it is shown, so that nothing is -0.0.
fn tenths(value: f64) -> f64 {
    (value * 10.0).round() / 10.0 + 0.0
}

/// A time to the thousandth.
fn clock(seconds: f64) -> String {
    let minutes = (seconds / 60.0).floor();
    format!("{minutes:.0}:{:06.3}", seconds - 60.0 * minutes)
}

/// A click in words, with its figure.
pub fn heard(judged: &Judgement) -> String {
    match judged.click_db {
        db if db <= UNHEARD => "none".to_owned(),
        db if db <= 0.0 => format!("{:.0} dB below the masking threshold", -db),
        db => format!("{db:.0} dB above the masking threshold"),
    }
}

fn described(judged: &Judgement, rate: SampleRate, plain: bool) -> String {
    let [start, end] = [judged.range.start, judged.range.end].map(|f| clock(rate.seconds(f)));
    let row = |name: &str, text: String| format!("  {name:<10}{text}");
    let mut lines = vec![
        row(
            "loop",
            format!(
                "{start} to {end} ({} frames, from {} up to {})",
                judged.range.len(),
                judged.range.start,
                judged.range.end
            ),
        ),
        row("seam", paint(style(judged.verdict), judged.verdict.word())),
        row("click", heard(judged)),
        row(
            "step",
            format!(
                "{:.1} % of full scale, slope {:.2} % a frame",
                judged.step * 100.0,
                judged.slope * 100.0
            ),
        ),
        row(
            "level",
            format!(
                "{:+.1} dB, spectrum {:.1} dB: change across the seam, 50 ms on each side",
                tenths(judged.level_db),
                judged.spectrum_db
            ),
        ),
    ];
    if !plain {
        lines.extend(wave(&judged.around));
    }
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
