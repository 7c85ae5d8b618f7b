//! Making a plan.

use super::beside::{self, Known};
use super::level::{self, Levelled, Reference};
use super::places::Places;
use super::target::{refuse_unencodable, target_format};
use super::{Decision, Output, Plan, Step, Work, rounds, shape};
use crate::clip::Facts;
use crate::edit::{Edits, Tail};
use crate::error::{Error, Result};
use crate::num::{common_divisor, scaled};
use crate::observe::Observer;
use crate::read::Clip;
use crate::seam::kept_tail::seam_error;
use crate::shape::limit;
use crate::shape::quantise::Dither;
use crate::shape::route::{Law, Route};
use crate::spec::{
    Channels, Codec, Container, Demand, Format, Header, Kind, Looped, Shortfall, convertible,
    usual_header,
};
use crate::survey::selection::{Selection, select};
use crate::units::{Duration, FrameRange};
use crate::write::codec::usual_block;
use crate::write::wav;
use std::num::NonZeroU64;

/// Decides what turns a clip with these facts into a file that meets the demand, with no edits.
///
/// # Errors
/// [`Error::CannotMeet`] where no usual way leads there; [`Error::BadSpec`] where the demand
/// contradicts itself or names what is not written here.
pub fn plan(facts: &Facts, demand: &Demand) -> Result<Plan> {
    let plan = plan_of_any_size(facts, demand)?;
    refuse_too_large_work(&plan)?;
    Ok(plan)
}

/// As [`plan`], for what never becomes a file of its own.
pub(crate) fn plan_of_any_size(facts: &Facts, demand: &Demand) -> Result<Plan> {
    let edits = Edits::default();
    decide(
        facts,
        demand,
        &edits,
        &Selection::whole(facts),
        &Levelled::default(),
    )
}

/// Decides what turns a clip into a file that meets the demand, with all edits made. Reads the clip
/// only where the edits need something measured.
///
/// # Errors
/// As [`plan`], and those of reading.
pub fn plan_clip(
    clip: &Clip,
    demand: &Demand,
    edits: &Edits,
    reference: Reference<'_>,
    observer: &dyn Observer,
) -> Result<Plan> {
    let facts = clip.facts();
    if edits.is_empty() {
        let mut plan = plan(facts, demand)?;
        tell_seam_error(clip, &Selection::whole(facts), &mut plan, observer)?;
        return Ok(plan);
    }
    let selection = select(clip, edits, observer)?;
    let plain = decide(facts, demand, edits, &selection, &Levelled::default())?;
    let levelled = level::measure(clip, &plain, edits, reference, observer)?;
    let mut plan = decide(facts, demand, edits, &selection, &levelled)?;
    refuse_too_large_work(&plan)?;
    tell_seam_error(clip, &selection, &mut plan, observer)?;
    Ok(plan)
}

/// Where the sound behind a loop stays, its points stay, too, and the filter sees what it should not:
/// how much that is, is measured.
fn tell_seam_error(
    clip: &Clip,
    selection: &Selection,
    plan: &mut Plan,
    observer: &dyn Observer,
) -> Result<()> {
    let own = || clip.facts().loops.first().map(|l| l.range);
    let range = selection.looped.or_else(own);
    let ratio = plan.steps().iter().find_map(|step| match step {
        Step::Resample { from, to, .. } => Some((*from, *to)),
        _ => None,
    });
    let used = selection.range;
    let (Some(range), Some(ratio), false) = (range, ratio, plan.to.loops.is_empty()) else {
        return Ok(());
    };
    if range.end >= used.end || !used.contains(range) {
        return Ok(());
    }
    let error = seam_error(clip, used, range, ratio, observer)?;
    let place = plan.decisions.iter().rposition(|d| d.about == "loop");
    let decision = Decision {
        about: "loop",
        what: format!("the filter leaves an error of up to {error:.0} dBFS at its seam"),
        why: "the sound behind the loop is kept, so its points stay; --tail cut makes it exact"
            .to_owned(),
    };
    let place = place.map_or(plan.decisions.len(), |place| place + 1);
    plan.decisions.insert(place, decision);
    Ok(())
}

/// Decisions are told in the order in which a clip meets them.
const ORDER: &[&str] = &[
    "samples",
    "DC",
    "cut",
    "silence",
    "length",
    "separate",
    "channels",
    "voicing",
    "speed",
    "sample rate",
    "level",
    "fades",
    "bit depth",
    "encoding",
    "header",
    "loop",
    "chunks",
];

fn refuse_too_large_work(plan: &Plan) -> Result<()> {
    // What is not touched cannot become too large.
    match plan.work {
        Work::Nothing => Ok(()),
        _ => refuse_too_large(&plan.to),
    }
}

/// The decisions themselves: a pure function of all that is known.
fn decide(
    facts: &Facts,
    demand: &Demand,
    edits: &Edits,
    selection: &Selection,
    levelled: &Levelled,
) -> Result<Plan> {
    demand.validate()?;
    let shortfalls = demand.shortfalls(facts);
    let own = facts.format;
    if shortfalls.is_empty() && edits.is_empty() {
        return Ok(nothing_to_do(facts));
    }
    let mut decisions = selection.decisions.clone();
    let format = target_format(own, demand, edits)?;
    let selected = shape::length(facts, format, edits, selection, &mut decisions)?;
    let route = plan_route(own, format, edits, &mut decisions)?;
    let nominal = plan_rate(facts, format, edits, selected.len(), &mut decisions)?;
    let pad = edits.pad.map_or(0, |pad| pad.head.frames(format.rate));
    let mut around = around(facts, demand, format, edits, selection, levelled);
    let ratio = nominal.unwrap_or((1, 1));
    let asked = around.range.map(|range| rounds::Asked {
        range,
        used: selected,
        from: ratio.0,
        to: ratio.1,
        pad,
        multiple: edits.loop_multiple.map_or(1, NonZeroU64::get),
        bend: edits.loop_bend,
        ahead: around.ahead,
        before: around.before,
    });
    let rounds = match asked.filter(|asked| selected.contains(asked.range)) {
        Some(asked) => asked.decide(format.rate, &mut decisions)?,
        None => None,
    };
    let bent = rounds.as_ref().map(|rounds| (rounds.from, rounds.to));
    let ratio = bent.unwrap_or(ratio);
    let resample = (nominal.is_some() || ratio.0 != ratio.1).then(|| Step::Resample {
        from: ratio.0,
        to: ratio.1,
        rate: format.rate,
        lead: rounds.as_ref().map_or(0, |rounds| rounds.lead),
    });
    let unrolled = rounds.as_ref().filter(|rounds| rounds.stretches.is_some());
    let frames = match unrolled {
        Some(rounds) => rounds.range.end - pad,
        None => scaled(selected.len(), ratio.1, ratio.0),
    };
    around.before = unrolled.map_or(0, |rounds| rounds.before);
    if unrolled.is_none() {
        around.beyond = 0;
    }
    let mut early = shape::before(edits, selection, selected, unrolled, facts);
    let plain = |step: &Step| {
        matches!(
            step,
            Step::Stretches {
                crossfade: None,
                ..
            }
        )
    };
    let moved = !early.iter().all(plain)
        || selected.len() < facts.frames
        || edits.speed.is_some()
        || edits.pad.is_some();
    early.extend(shape::separate(edits, own, &mut decisions)?);
    let voice = shape::voice(edits, &mut decisions);
    let places = Places::new(selected, ratio, pad, !moved);
    let tail = faded_tail(edits, selection, &places, frames + pad);
    let ends = shape::Ends {
        frames,
        cut: unrolled.map(|rounds| FrameRange {
            start: rounds.skip,
            end: rounds.skip + rounds.before + frames + around.beyond,
        }),
        tail,
    };
    let late = shape::after(edits, ends, levelled, format.rate, &mut decisions);
    let coloured = edits.keep.is_some() || edits.voicing.is_some();
    let shaped =
        late.changes || coloured || selection.dc.is_some() || selection.crossfade.is_some();
    let quantised = plan_depth(
        facts,
        format,
        route.as_ref(),
        resample.is_some() || shaped,
        &mut decisions,
    );
    let changes = !early.is_empty() || voice.is_some() || !late.steps.is_empty();
    let renders = changes
        || route.is_some()
        || resample.is_some()
        || !same_packets(own, format, demand, facts);
    if renders {
        refuse_unencodable(format)?;
    }

    let header = plan_header(facts, demand, format, &shortfalls, &mut decisions);
    let mut output = Output {
        header,
        block_bytes: plan_block(facts, demand, format, renders)?,
        loop_tags: demand.loop_tags.clone().unwrap_or_default(),
        before: around.before,
        beyond: around.beyond,
        ..Output::plain(format, frames + late.padding)
    };
    let known = Known {
        facts,
        wanted: demand.chunks,
        looped: demand.looped,
        set: &edits.tags,
        to: format,
        changed: renders,
        places: &places,
        asked: selection.sets_loop.then_some(selection.looped),
        exact: rounds.as_ref().map(|rounds| rounds.range),
        wraps: selection.wraps,
    };
    beside::fill(&mut output, &known, &mut decisions)?;
    if demand.looped == Looped::Required && output.loops.is_empty() {
        return Err(Error::CannotMeet {
            what: "the target wants a sound that loops, and this one has no loop points".to_owned(),
            instead: "say which part goes round, as in --loop 1.5s..end".to_owned(),
        });
    }
    let tagged = output.tags != facts.tags && !edits.tags.is_empty();
    let looped = output.loops != facts.loops && selection.sets_loop;
    let work = if renders {
        let mut steps = Vec::new();
        if matches!(own.encoding.codec.kind(), Kind::Float(_)) {
            steps.push(Step::Finite);
        }
        steps.extend(early);
        steps.extend(route.map(|law| Step::Route { route: law.route }));
        steps.extend(voice);
        steps.extend(resample);
        steps.extend(late.steps);
        steps.extend(quantised);
        Work::Render(steps)
    } else if shortfalls.is_empty() && !tagged && !looped {
        return Ok(nothing_to_do(facts));
    } else {
        decisions.insert(
            0,
            Decision {
                about: "samples",
                what: "copied bit for bit".to_owned(),
                why: "encoding, rate and channels are right already".to_owned(),
            },
        );
        Work::Rewrap
    };
    decisions.sort_by_key(|decision| ORDER.iter().position(|about| *about == decision.about));
    Ok(Plan {
        from: own,
        from_frames: facts.frames,
        to: output,
        work,
        decisions,
    })
}

/// What goes round in the output, and what must be seen behind its end.
struct Around {
    /// Frames of the clip.
    range: Option<FrameRange>,
    /// Frames of the output that some step looks ahead.
    ahead: u64,
    /// Those of them that the encoder sees.
    beyond: u64,
    /// Frames that it sees before the first.
    before: u64,
}

fn around(
    facts: &Facts,
    demand: &Demand,
    to: Format,
    edits: &Edits,
    selection: &Selection,
    levelled: &Levelled,
) -> Around {
    /// More than the longest blocks of Vorbis and AAC reach.
    const LOSSY_SEES: u64 = 3 * 8192;
    /// Packets of AAC overlap with the one before.
    const AAC_SEES: u64 = 2 * 1024;
    let asked = selection.sets_loop;
    let carried = beside::lets_loops(demand.chunks, demand.looped, to.container, asked);
    let own = || facts.loops.first().map(|l| l.range).filter(|_| !asked);
    let points = selection.looped.or_else(own).filter(|_| carried);
    let range = points.or(selection.wraps.then_some(selection.range));
    let limits = levelled
        .steps
        .iter()
        .any(|step| matches!(step, Step::Limit { .. }));
    let padded = edits.pad.is_some_and(|pad| pad.tail.frames(to.rate) > 0);
    let beyond = match to.encoding.codec {
        Codec::Vorbis | Codec::Aac if !padded => LOSSY_SEES,
        _ => 0,
    };
    // Only AAC in MP4 has a place for what is decoded and not played.
    let faded = edits.fade_in.is_some() || edits.fade_out.is_some();
    let before = match to.encoding.codec {
        Codec::Aac if !faded => AAC_SEES,
        _ => 0,
    };
    let limiter = if limits {
        limit::look_ahead(to.rate)
    } else {
        0
    };
    Around {
        range,
        ahead: beyond.max(limiter),
        beyond,
        before,
    }
}

/// How many frames of the output the tail of a loop fades over, where it is to.
fn faded_tail(edits: &Edits, selection: &Selection, places: &Places, frames: u64) -> Option<u64> {
    let range = selection
        .looped
        .filter(|_| edits.tail == Some(Tail::Fade))?;
    let end = places.range(range)?.end;
    Some(frames.saturating_sub(end)).filter(|tail| *tail > 0)
}

/// Whether the encoded samples can be copied as they are: the same encoding, in a container that
/// stores it alike.
fn same_packets(own: Format, to: Format, demand: &Demand, facts: &Facts) -> bool {
    let alike = match (own.container, to.container) {
        (a, b) if a == b => true,
        (Container::Rf64, Container::Wav) | (Container::Mp4, Container::M4a) => true,
        _ => false,
    };
    let blocks = demand.block_bytes.is_none() || demand.block_bytes == facts.block_bytes;
    let (a, b) = (own.encoding, to.encoding);
    alike && blocks && a.codec == b.codec && a.order == b.order
}

/// The size of ADPCM blocks: as asked, as the clip has it, or as usual for the rate.
fn plan_block(facts: &Facts, demand: &Demand, to: Format, renders: bool) -> Result<Option<u32>> {
    if !renders {
        return Ok(facts.block_bytes);
    }
    if to.encoding.codec != Codec::ImaAdpcm {
        return Ok(None);
    }
    if demand.header == Some(Header::Extensible) {
        return Err(Error::CannotMeet {
            what: "an extensible header has no place for the blocks of IMA ADPCM".to_owned(),
            instead: "ask for --header plain".to_owned(),
        });
    }
    let channels = to.channels.count();
    let bytes = demand
        .block_bytes
        .unwrap_or_else(|| usual_block(to.rate.hertz(), channels));
    let group = 4 * u32::from(channels);
    let sound = bytes.is_multiple_of(group) && bytes > group && bytes <= u32::from(u16::MAX);
    if sound {
        return Ok(Some(bytes));
    }
    Err(Error::CannotMeet {
        what: format!("blocks of {bytes} bytes cannot hold IMA ADPCM of {channels} channels"),
        instead: format!(
            "ask for a multiple of {group} bytes from {} to 65532",
            2 * group
        ),
    })
}

fn nothing_to_do(facts: &Facts) -> Plan {
    Plan {
        from: facts.format,
        from_frames: facts.frames,
        to: Output {
            header: facts.header,
            block_bytes: facts.block_bytes,
            loops: facts.loops.clone(),
            markers: facts.markers.clone(),
            tags: facts.tags.clone(),
            ..Output::plain(facts.format, facts.frames)
        },
        work: Work::Nothing,
        decisions: vec![Decision {
            about: "whole file",
            what: "kept as it is, byte for byte".to_owned(),
            why: "it meets the spec already".to_owned(),
        }],
    }
}

fn plan_route(
    own: Format,
    to: Format,
    edits: &Edits,
    decisions: &mut Vec<Decision>,
) -> Result<Option<Law>> {
    if let Some(route) = &edits.route {
        return route_as_asked(own, route, decisions).map(Some);
    }
    if own.channels.count() == to.channels.count() {
        return Ok(None);
    }
    let law = Route::usual(own.channels, to.channels).ok_or_else(|| Error::CannotMeet {
        what: format!(
            "there is no usual way from {} channels to {}",
            own.channels, to.channels
        ),
        instead: "ask for mono, or for as many channels as the clip has".to_owned(),
    })?;
    decisions.push(Decision {
        about: "channels",
        what: format!("{} to {}: {}", own.channels, to.channels, law.about),
        why: match to.channels {
            Channels::MONO => "the target wants mono".to_owned(),
            wanted => format!("the target wants {wanted}"),
        },
    });
    Ok(Some(law))
}

fn route_as_asked(own: Format, route: &Route, decisions: &mut Vec<Decision>) -> Result<Law> {
    let most = route
        .0
        .iter()
        .flatten()
        .map(|(channel, _)| channel + 1)
        .max();
    let count = usize::from(own.channels.count());
    if most.is_some_and(|most| most > count) {
        return Err(Error::CannotMeet {
            what: format!(
                "the route uses channel {}, and the clip has {count}",
                most.unwrap_or_default()
            ),
            instead: "use only channels that the clip has".to_owned(),
        });
    }
    let about = route.to_string();
    decisions.push(Decision {
        about: "channels",
        what: match route.0.len() {
            1 => format!("{} to mono: {about}", own.channels),
            count => format!("{} to {count} channels: {about}", own.channels),
        },
        why: "the route was asked for".to_owned(),
    });
    Ok(Law {
        route: route.clone(),
        about,
    })
}

/// So many frames in give so many out, where either rate or speed changes.
fn plan_rate(
    facts: &Facts,
    to: Format,
    edits: &Edits,
    frames: u64,
    decisions: &mut Vec<Decision>,
) -> Result<Option<(u64, u64)>> {
    let own = facts.format;
    let speed = edits.speed.filter(|speed| speed.num != speed.den);
    if let Some(speed) = speed {
        decisions.push(Decision {
            about: "speed",
            what: format!("{speed} times as fast, and as high"),
            why: "it was asked for".to_owned(),
        });
    }
    if own.rate == to.rate && speed.is_none() {
        return Ok(None);
    }
    if let Some(rate) = [own.rate, to.rate].into_iter().find(|r| !convertible(*r)) {
        return Err(Error::CannotMeet {
            what: format!("a sample rate of {rate} Hz cannot be converted"),
            instead: "ask for a rate from 1000 to 384000 Hz".to_owned(),
        });
    }
    let (a, b) = (u64::from(own.rate.hertz()), u64::from(to.rate.hertz()));
    let (num, den) = speed.map_or((1, 1), |s| (u64::from(s.num), u64::from(s.den)));
    let ratio = (a * num, b * den);
    if a == b {
        return Ok(Some(ratio));
    }
    let divisor = common_divisor(a, b);
    let after = scaled(frames, ratio.1, ratio.0);
    decisions.push(Decision {
        about: "sample rate",
        what: format!(
            "{a} to {b} Hz (by {}/{}): {frames} frames become {after}",
            b / divisor,
            a / divisor,
        ),
        why: if b < a {
            format!(
                "the target wants {b} Hz; sound above {} Hz is lost",
                scaled(b, 475, 1000)
            )
        } else {
            format!("the target wants {b} Hz")
        },
    });
    Ok(Some(ratio))
}

/// How many bits the samples fill after routing; `None` where every bit may count.
fn bits_in_use(facts: &Facts, route: Option<&Law>, resampled: bool) -> Option<u32> {
    let stored = facts.format.encoding.codec.facts().decoded_bits?;
    if resampled {
        return None;
    }
    let bits = facts.valid_bits.map_or(stored, u32::from);
    let gains = route.iter().flat_map(|law| law.route.0.iter().flatten());
    let mut extra = 0;
    for (_, gain) in gains {
        // A gain of 1/2^k takes k more bits; any other gain may take all.
        let halvings = (0..16).find(|&k| *gain == 0.5f64.powi(k))?;
        extra = extra.max(halvings.unsigned_abs());
    }
    Some(bits + extra)
}

fn plan_depth(
    facts: &Facts,
    to: Format,
    route: Option<&Law>,
    resampled: bool,
    decisions: &mut Vec<Decision>,
) -> Option<Step> {
    let (own, codec) = (facts.format.encoding.codec, to.encoding.codec);
    let kind = codec.grid();
    // Noise beneath the steps of a coarse codec does no good; AAC hides less than a bit of 16.
    let coarse = codec.kind() == Kind::Lossy && codec != Codec::Aac;
    let dither = match kind {
        Kind::Integer(bits) => match bits_in_use(facts, route, resampled) {
            Some(used) if used <= bits => Dither::None,
            _ if coarse => Dither::None,
            _ if bits <= 8 => Dither::Shaped,
            _ => Dither::Triangular,
        },
        Kind::Float(_) | Kind::Lossy => Dither::None,
    };
    let lossy = codec.kind() == Kind::Lossy;
    if own != codec || dither != Dither::None {
        let (how, why) = match (dither, kind) {
            _ if lossy && coarse => ("", "the target wants it"),
            (Dither::Triangular, _) if lossy => {
                (" with triangular dither", "it is encoded from 16 bits")
            }
            _ if lossy => ("", "the target wants it"),
            (Dither::Triangular, _) => (" with triangular dither", "bits are lost"),
            (Dither::Shaped, _) => (
                " with triangular dither, its noise moved to where it is least heard",
                "bits are lost, and 8 are few",
            ),
            (Dither::None, Kind::Integer(_)) => (" without dither", "no bits are lost"),
            (Dither::None, _) => (" without dither", "floating point needs none"),
        };
        decisions.push(Decision {
            about: if lossy { "encoding" } else { "bit depth" },
            what: match own == codec {
                true if lossy => format!("encoded as {} again{how}", to.encoding),
                true => format!("rounded to {} again{how}", codec.facts().word),
                false if lossy => format!("{} to {}{how}", own.facts().word, to.encoding),
                false => format!("{} to {}{how}", own.facts().word, codec.facts().word),
            },
            why: why.to_owned(),
        });
    }
    Some(Step::Quantise { codec, dither })
}

fn plan_header(
    facts: &Facts,
    demand: &Demand,
    to: Format,
    shortfalls: &[Shortfall],
    decisions: &mut Vec<Decision>,
) -> Option<Header> {
    if shortfalls.iter().any(|s| s.what == "whole") {
        decisions.push(Decision {
            about: "length",
            what: format!("{} frames, as many as there are", facts.frames),
            why: "the clip is cut short: its header promises more".to_owned(),
        });
    }
    let usual = usual_header(to)?;
    let same_form = facts.format.encoding == to.encoding
        && facts.format.channels == to.channels
        && facts.format.container == to.container;
    let header = match demand.header {
        Some(wanted) => wanted,
        // A header that was not complained of stays.
        None if same_form => facts.header.unwrap_or(usual),
        None => usual,
    };
    let why = match (demand.header, header) {
        (Some(_), _) => "the target's files have it",
        (None, _) if same_form => "the clip has it",
        (None, Header::Plain) => "every loader knows it",
        (None, Header::Extensible) => "more than 2 channels or 16 bits ask for it",
    };
    if facts.header != Some(header) || facts.format.container != to.container {
        decisions.push(Decision {
            about: "header",
            what: header.to_string(),
            why: why.to_owned(),
        });
    }
    Some(header)
}

/// RIFF and IFF count in 32 bits, and so does QOA.
pub(crate) fn refuse_too_large(to: &Output) -> Result<()> {
    let bytes = wav::file_bytes(to);
    let container = to.format.container;
    let most = match container {
        Container::Wav | Container::Aiff | Container::Aifc => wav::LARGEST_FILE,
        Container::Qoa if to.frames > u64::from(u32::MAX) => 0,
        _ => u64::MAX,
    };
    if bytes <= most {
        return Ok(());
    }
    let longest = crate::num::scaled(to.frames, most, bytes.max(1)).min(u32::MAX.into());
    let longest = Duration(to.format.rate.seconds(longest));
    let gib = |bytes: u64| crate::num::real(bytes) / f64::from(1 << 30);
    Err(Error::CannotMeet {
        what: format!(
            "{} would take {:.2} GiB; {container} holds at most 4 GiB",
            to.format,
            gib(bytes)
        ),
        instead: format!(
            "ask for fewer bits, channels or a lower rate, or cut the clip to {longest} at most"
        ),
    })
}
