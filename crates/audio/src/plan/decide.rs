//! Making a plan.

use super::carry::{self, rescaled};
use super::level::{self, Levelled, Reference};
use super::{Carried, Decision, Output, Plan, Step, Work, shape};
use crate::clip::{Facts, Loop};
use crate::edit::Edits;
use crate::error::{Error, Result};
use crate::num::{common_divisor, scaled};
use crate::observe::Observer;
use crate::read::Clip;
use crate::shape::quantise::Dither;
use crate::shape::route::{Law, Route};
use crate::spec::{
    Channels, Codec, Container, Demand, Encoding, Format, Header, Kind, Shortfall, convertible,
    usual_header,
};
use crate::survey::selection::{Selection, select};
use crate::units::{Duration, FrameRange};
use crate::write::wav;

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
        return plan(facts, demand);
    }
    let selection = select(clip, edits, observer)?;
    let plain = decide(facts, demand, edits, &selection, &Levelled::default())?;
    let levelled = level::measure(clip, &plain, edits, reference, observer)?;
    let plan = decide(facts, demand, edits, &selection, &levelled)?;
    refuse_too_large_work(&plan)?;
    Ok(plan)
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
    let resample = plan_rate(facts, format, edits, selected.len(), &mut decisions)?;
    let frames = shape::frames_out(selected.len(), resample.as_ref());
    let mut early = shape::before(edits, selection, selected, facts);
    let moved = !early.is_empty() || edits.speed.is_some() || edits.pad.is_some();
    early.extend(shape::separate(edits, own, &mut decisions)?);
    let voice = shape::voice(edits, &mut decisions);
    let late = shape::after(edits, levelled, frames, format.rate, &mut decisions);
    let coloured = edits.keep.is_some() || edits.voicing.is_some();
    let shaped = late.changes || coloured || selection.dc.is_some();
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
        || format.encoding.codec != own.encoding.codec;

    let header = plan_header(facts, demand, format, &shortfalls, &mut decisions);
    let (mut carried, left_out) = carry::choose(facts, demand.chunks, format.rate, renders);
    if moved {
        shape::drop_places(&mut carried, &mut decisions);
    }
    let loops = plan_loops(facts, format, &carried, resample.is_some(), &mut decisions);
    decisions.extend(left_out);
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
    } else if shortfalls.is_empty() {
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
        to: Output {
            format,
            header,
            frames: frames + late.padding,
            loops,
            carried,
        },
        work,
        decisions,
    })
}

fn nothing_to_do(facts: &Facts) -> Plan {
    Plan {
        from: facts.format,
        from_frames: facts.frames,
        to: Output {
            format: facts.format,
            header: facts.header,
            frames: facts.frames,
            loops: facts.loops.clone(),
            carried: Vec::new(),
        },
        work: Work::Nothing,
        decisions: vec![Decision {
            about: "whole file",
            what: "kept as it is, byte for byte".to_owned(),
            why: "it meets the spec already".to_owned(),
        }],
    }
}

/// The clip's own values where they are accepted, else the first alternatives; what cannot be
/// written gives way to the nearest that can.
fn target_format(own: Format, demand: &Demand, edits: &Edits) -> Result<Format> {
    let spec = demand.spec_for(own);
    let mut format = spec.pick(own);
    if let Some(route) = &edits.route {
        let routed = u16::try_from(route.0.len()).ok().and_then(Channels::new);
        let routed = routed.ok_or_else(|| Error::CannotMeet {
            what: "a route has 1 to 32 channels".to_owned(),
            instead: "write one expression for each output channel".to_owned(),
        })?;
        if !spec.channels.accepts(routed, Channels::accepts) {
            return Err(Error::CannotMeet {
                what: format!(
                    "the route makes {routed}, and the target wants {}",
                    spec.channels
                ),
                instead: "write one expression for each channel that the target wants".to_owned(),
            });
        }
        if format.channels.count() != routed.count() {
            format.channels = routed;
        }
    }
    if !format.container.facts().written {
        format.container = Container::Wav;
    }
    let encodings = match &spec.encoding {
        crate::spec::Choice::OneOf(all) => all.as_slice(),
        crate::spec::Choice::Any => &[],
    };
    if !format.encoding.codec.facts().here {
        let able = encodings.iter().find(|e| e.codec.facts().here);
        format.encoding = able.copied().unwrap_or(Encoding::plain(Codec::Pcm16));
    }
    let little_endian = format.encoding.order != Some(crate::spec::ByteOrder::Big);
    if format.container == Container::Wav && !little_endian {
        return Err(Error::BadSpec {
            line: spec.to_string(),
            what: "samples in a WAV are little-endian".to_owned(),
        });
    }
    format.encoding.order = None;
    Ok(format)
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

fn plan_rate(
    facts: &Facts,
    to: Format,
    edits: &Edits,
    frames: u64,
    decisions: &mut Vec<Decision>,
) -> Result<Option<Step>> {
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
    let step = Step::Resample {
        from: a * num,
        to: b * den,
        rate: to.rate,
    };
    if a == b {
        return Ok(Some(step));
    }
    let divisor = common_divisor(a, b);
    let after = shape::frames_out(frames, Some(&step));
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
    Ok(Some(step))
}

/// How many bits the samples fill after routing; `None` where every bit may count.
fn bits_in_use(facts: &Facts, route: Option<&Law>, resampled: bool) -> Option<u32> {
    let Kind::Integer(stored) = facts.format.encoding.codec.kind() else {
        return None;
    };
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
    let kind = codec.kind();
    let dither = match kind {
        Kind::Integer(bits) => match bits_in_use(facts, route, resampled) {
            Some(used) if used <= bits => Dither::None,
            _ if bits <= 8 => Dither::Shaped,
            _ => Dither::Triangular,
        },
        Kind::Float(_) | Kind::Lossy => Dither::None,
    };
    if own != codec || dither != Dither::None {
        let (how, why) = match (dither, kind) {
            (Dither::Triangular, _) => ("with triangular dither", "bits are lost"),
            (Dither::Shaped, _) => (
                "with triangular dither, its noise moved to where it is least heard",
                "bits are lost, and 8 are few",
            ),
            (Dither::None, Kind::Integer(_)) => ("without dither", "no bits are lost"),
            (Dither::None, _) => ("without dither", "floating point needs none"),
        };
        decisions.push(Decision {
            about: "bit depth",
            what: match own == codec {
                true => format!("rounded to {} again {how}", codec.facts().word),
                false => format!("{} to {} {how}", own.facts().word, codec.facts().word),
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
    if shortfalls.iter().any(|s| s.what == "whole") {
        decisions.push(Decision {
            about: "length",
            what: format!("{} frames, as many as there are", facts.frames),
            why: "the clip is cut short: its header promises more".to_owned(),
        });
    }
    Some(header)
}

/// Loop points come along with their chunk, moved to the new rate.
fn plan_loops(
    facts: &Facts,
    to: Format,
    carried: &[Carried],
    resampled: bool,
    decisions: &mut Vec<Decision>,
) -> Vec<Loop> {
    if facts.loops.is_empty() {
        return Vec::new();
    }
    if !carried.iter().any(|c| c.extra.id == "smpl") {
        decisions.push(Decision {
            about: "loop",
            what: "the clip's loop points are left out".to_owned(),
            why: "nothing beside the samples is wanted".to_owned(),
        });
        return Vec::new();
    }
    let place = |frame| rescaled(frame, facts.format.rate, to.rate);
    let moved = |l: &Loop| Loop {
        range: FrameRange {
            start: place(l.range.start),
            end: place(l.range.end),
        },
        plays: l.plays,
    };
    if resampled {
        decisions.push(Decision {
            about: "loop",
            what: "loop points move to the nearest frames of the new rate".to_owned(),
            why: "the sample rate changes".to_owned(),
        });
        return facts.loops.iter().map(moved).collect();
    }
    facts.loops.clone()
}

/// RIFF counts in 32 bits.
pub(crate) fn refuse_too_large(to: &Output) -> Result<()> {
    let bytes = wav::file_bytes(to);
    if bytes <= wav::LARGEST_FILE {
        return Ok(());
    }
    let frame_bytes = wav::frame_bytes(to.format);
    let longest = Duration(to.format.rate.seconds(wav::LARGEST_FILE / frame_bytes));
    let gib = |bytes: u64| crate::num::real(bytes) / f64::from(1 << 30);
    Err(Error::CannotMeet {
        what: format!(
            "{} would take {:.2} GiB; a WAV holds at most 4 GiB",
            to.format,
            gib(bytes)
        ),
        instead: format!(
            "ask for fewer bits, channels or a lower rate, or cut the clip to {longest} at most"
        ),
    })
}
