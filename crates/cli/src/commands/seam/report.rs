//! What was found out about loops, in words.

use super::Seen;
use crate::args::Seam;
use crate::console::{BAD, BOLD, Console, FAINT, GOOD, WARN, paint, safe};
use deft_needle_audio::Clip;
use deft_needle_audio::num::{real_size, rounded, size};
use deft_needle_audio::seam::{Candidate, Judgement, Verdict};
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
    if let (Some(best), false) = (seen.found.first(), made) {
        let range = best.seam.range;
        let crossfade = match best.seam.verdict {
            Verdict::Good => "",
            Verdict::Audible | Verdict::Bad => " --crossfade 50ms",
        };
        console.say(format!(
            "  {:<10}fit or swap with --loop {}smp..{}smp{crossfade}, or -o here",
            "set it", range.start, range.end
        ));
    }
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
        "  {:>2}  {:>11}  {:>11}  {:>9}  {:<7}  {:>9}  {:>8}",
        "", "from", "to", "lasts", "seam", "click", "wave"
    )];
    for (number, one) in (1..).zip(found) {
        let seam = &one.seam;
        let at = |frame: u64| clock(rate.seconds(frame));
        let word = format!("{:<7}", seam.verdict.word());
        lines.push(format!(
            "  {number:>2}  {:>11}  {:>11}  {:>9}  {}  {:>6.1} dB  {:>5.0} dB",
            at(seam.range.start),
            at(seam.range.end),
            Duration(rate.seconds(seam.range.len())).to_string(),
            paint(style(seam.verdict), word),
            seam.click_db,
            one.wave_db,
        ));
    }
    lines.push(format!(
        "      {}",
        paint(
            FAINT,
            "wave: how far the sound at its end differs from that at its start; 0 dB is unrelated"
        )
    ));
    lines.join("\n")
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

fn described(judged: &Judgement, rate: SampleRate, plain: bool) -> String {
    let [start, end] = [judged.range.start, judged.range.end].map(|f| clock(rate.seconds(f)));
    let click = match judged.click_db {
        db if db > 0.0 => format!("{db:.1} dB above what the sound does around it"),
        _ => "none".to_owned(),
    };
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
        row("click", click),
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
