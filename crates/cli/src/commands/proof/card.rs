//! One slot of a page: both sides drawn, and what is said of them.

use super::heard::Heard;
use crate::commands::counted;
use crate::report::{notice, plan};
use deft_needle_audio::clip::Loop;
use deft_needle_audio::edit::{ValueKind, option};
use deft_needle_audio::num::scaled;
use deft_needle_audio::plan::Decision;
use deft_needle_audio::units::Duration;
use deft_needle_audio::{Clip, Observer};
use deft_needle_core::names::family_of;
use deft_needle_core::run::{self, Notice, Preview, Standing};
use deft_needle_proof::draw::{self, PARTS};
use deft_needle_proof::page::{Mark, Told};
use deft_needle_proof::sound::Playable;
use deft_needle_proof::{Card, Side, Sounds};

/// A slot, drawn, and what it sounds like.
pub fn card(
    preview: &Preview,
    heard: &Heard,
    observer: &dyn Observer,
) -> Result<(Card, [Option<Playable>; 2]), deft_needle_audio::Error> {
    let shown = |clip: &Option<Clip>, measured: &Option<run::Side>| {
        let shown = clip.as_ref().map(|clip| side(clip, measured.as_ref(), heard, observer));
        shown.transpose().map(Option::unzip)
    };
    let [before, after] = &preview.sides;
    let (stock, stock_sound) = shown(&preview.stock, before)?;
    let (mut new, new_sound) = shown(&preview.new, after)?;
    if let Some(new) = &mut new {
        new.marks.extend(marks_of(preview, new));
    }
    let kind = preview.new.as_ref().map(|clip| {
        let format = clip.facts().format;
        format!("{} {}", format.container, format.encoding.codec.facts().word)
    });
    let card = Card {
        number: 0,
        slot: preview.slot.clone(),
        clip: preview.clip.clone(),
        state: match preview.standing {
            Standing::New => "new",
            Standing::Unchanged => "unchanged",
            Standing::Installed(condition) => condition.words(),
        }
        .to_owned(),
        kind: kind.unwrap_or_else(|| "closed format".to_owned()),
        family: family_of(&preview.slot).map(|family| family.pattern),
        notices: preview.notices.iter().map(told).collect(),
        decisions: preview.decisions.iter().map(|d| (plan::line(d), plan::why(d))).collect(),
        lines: preview.lines.trim_end().to_owned(),
        stock,
        new,
    };
    Ok((card, [stock_sound, new_sound]))
}

fn side(
    clip: &Clip,
    measured: Option<&run::Side>,
    heard: &Heard,
    observer: &dyn Observer,
) -> Result<(Side, Playable), deft_needle_audio::Error> {
    let (playable, picture) = heard.take(clip, observer)?;
    let facts = clip.facts();
    let survey = measured.and_then(|side| side.survey.as_ref());
    let rate = facts.format.rate;
    let part =
        |frame: u64| u32::try_from(scaled(frame, PARTS.into(), facts.frames.max(1))).unwrap_or(0);
    let clipped = survey.into_iter().flat_map(|survey| {
        let runs = survey.clipped.runs;
        survey.clipped.first.iter().enumerate().map(move |(at, range)| Mark {
            kind: "clipped",
            start: part(range.start),
            width: (part(range.end) - part(range.start)).max(1),
            words: match at {
                0 => format!(
                    "{}, the first at {}",
                    counted(usize::try_from(runs).unwrap_or(0), "place"),
                    Duration(rate.seconds(range.start))
                ),
                _ => format!("at {}", Duration(rate.seconds(range.start))),
            },
        })
    });
    let side = Side {
        spec: facts.format.to_string(),
        seconds: facts.seconds(),
        length: Duration(facts.seconds()).to_string(),
        rate: rate.hertz(),
        frames: facts.frames,
        lufs: measured.and_then(|side| side.lufs),
        peak: survey.map(|survey| survey.true_peak_dbtp),
        // The page plays loops forward alone.
        looped: (facts.loops.first().filter(|l| l.direction.is_forward()))
            .map(|Loop { range, .. }| (range.start, range.end)),
        marks: clipped.collect(),
        drawn: draw::draw(&picture, rate),
        sound: Sounds::Nowhere,
    };
    Ok((side, playable))
}

/// Fades, and what a limiter did.
fn marks_of(preview: &Preview, new: &Side) -> Vec<Mark> {
    let parts = |seconds: f64| {
        let share = (seconds / new.seconds.max(1e-6)).clamp(0.0, 1.0);
        let parts = deft_needle_audio::num::rounded(share * f64::from(PARTS)).max(1);
        u32::try_from(parts).unwrap_or(1)
    };
    let mut marks = Vec::new();
    for decision in &preview.decisions {
        if let Decision::Faded { seconds: [head, tail] } = decision {
            let mut fade = |seconds: f64, start: u32, words: &str| {
                if seconds > 0.0 {
                    let words = format!("{words} over {}", Duration(seconds));
                    marks.push(Mark { kind: "fade", start, width: parts(seconds), words });
                }
            };
            fade(*head, 0, "in");
            fade(*tail, PARTS - parts(*tail).min(PARTS), "out");
        }
    }
    let limited = preview.outcome.as_ref().map(|outcome| outcome.limited);
    if let Some(limited) = limited.filter(|limited| limited.frames > 0) {
        let seconds = deft_needle_audio::num::real(limited.frames) / f64::from(new.rate.max(1));
        let words = format!("by up to {:.1} dB, for {}", limited.most.abs(), Duration(seconds));
        marks.push(Mark { kind: "limited", start: 0, width: 0, words });
    }
    marks
}

/// A notice, and the option that answers it.
fn told(found: &Notice) -> Told {
    let text = notice::words(found);
    let help = answer(&text);
    Told { text, help }
}

/// The first option in a sentence, with its value where it has one.
fn answer(text: &str) -> Option<String> {
    let mut words = text.split_whitespace().map(|word| word.trim_end_matches([',', ';', ':', '.']));
    let name = words.find_map(|word| word.strip_prefix("--"))?;
    let value = match option(name)?.value {
        ValueKind::Flag => None,
        _ => words.next(),
    };
    Some(value.map_or_else(|| format!("--{name}"), |value| format!("--{name} {value}")))
}
