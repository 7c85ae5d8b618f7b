//! The table of options: every one that shapes a clip or says what its file must be, once.
//!
//! The command line, job sheets, a sheet's defaults, a ledger's record of what was asked and the reference in
//! the documentation read it. A new option is one row here, its step and its test.

use super::looped::Tail;
use super::request::Request;
use super::values::*;
use super::{Ends, TooLong};
use crate::clip::Direction;
use crate::invalid::Invalid;
use crate::shape::fade::Curve;
use crate::shape::separate::Keep;
use crate::spec::Header;

/// What an option is about; also the order of help and documentation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Group {
    /// How a clip is read.
    Reading,
    /// What its file must be.
    Spec,
    /// What is done to it.
    Shaping,
    /// Which part of it loops, and how.
    Looping,
}

/// What is written after an option's name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueKind {
    /// Nothing, on a command line; `true` or `false` in a sheet.
    Flag,
    /// A value of this name.
    One(&'static str),
    /// The same, which may be left out and is then the second.
    Maybe(&'static str, &'static str),
    /// One of these words.
    Word(&'static [&'static str]),
    /// A value of this name; the option may be given again.
    Many(&'static str),
}

/// One option.
#[derive(Debug)]
pub struct OptionRow {
    /// Its name: `--name` on a command line, `name` in a sheet.
    pub name: &'static str,
    /// What it is about.
    pub group: Group,
    /// What is written after it.
    pub value: ValueKind,
    /// A line of at most 70 characters, imperative, with the default in brackets.
    pub help: &'static str,
    /// The word that switches off what a sheet sets.
    pub off: Option<&'static str>,
    /// Values that it takes, for documentation and tests.
    pub examples: &'static [&'static str],
    /// A value that it does not take.
    pub wrong: &'static str,
    set: fn(&mut Request, Option<&str>) -> Result<(), Invalid>,
    copy: fn(&Request, &mut Request),
}

impl OptionRow {
    /// Takes a value into a request; the word that switches it off empties it.
    ///
    /// # Errors
    /// A value that it does not take.
    pub(super) fn set(&self, request: &mut Request, text: &str) -> Result<(), Invalid> {
        (self.set)(request, Some(text).filter(|text| self.off != Some(text)))
    }

    /// Takes its value over from another request.
    pub(super) fn copy(&self, from: &Request, to: &mut Request) {
        (self.copy)(from, to);
    }

    /// Whether its value may begin with a minus.
    pub fn takes_minus(&self) -> bool {
        self.examples.iter().any(|example| example.starts_with('-'))
    }
}

/// The option of a name.
pub fn option(name: &str) -> Option<&'static OptionRow> {
    OPTIONS.iter().find(|option| option.name == name)
}

/// What sets a field, and what takes it over.
macro_rules! field {
    ($($path:ident).+, $text:ident => $value:expr) => {
        (
            |request, $text| {
                request.$($path).+ = $value?;
                Ok(())
            },
            |from, to| to.$($path).+.clone_from(&from.$($path).+),
        )
    };
}

type Field = (fn(&mut Request, Option<&str>) -> Result<(), Invalid>, fn(&Request, &mut Request));

const fn row(
    (name, group, value): (&'static str, Group, ValueKind),
    help: &'static str,
    off: Option<&'static str>,
    (examples, wrong): (&'static [&'static str], &'static str),
    (set, copy): Field,
) -> OptionRow {
    OptionRow { name, group, value, help, off, examples, wrong, set, copy }
}

use Group::{Looping, Reading, Shaping};
use ValueKind::{Flag, Many, Maybe, One, Word};

/// Every option.
pub static OPTIONS: &[OptionRow] = &[
    row(
        ("read-as", Reading, One("SPEC")),
        "Read the clip as headerless samples, as in \"raw pcm16le 24000 mono\"",
        None,
        (&["raw pcm16le 24000 mono"], "wav pcm16 24000 mono"),
        field!(read_as, text => raw(text)),
    ),
    row(
        ("loop-tags", Reading, One("NAMES")),
        "Names of loop tags [default: start=LOOPSTART,length=LOOPLENGTH]",
        None,
        (&["start=A,length=B", "start=A,end=B,in=seconds"], "A"),
        field!(loop_tags, text => maybe(text)),
    ),
    row(
        ("spec", Group::Spec, One("SPEC")),
        "Container, encoding, rate and channels, as in \"wav pcm16 24000 mono\"",
        None,
        (&["wav pcm16 any any", "wav pcm8|imaadpcm 18900|9450 mono"], "wav"),
        field!(spec, text => spec(text)),
    ),
    row(
        ("header", Group::Spec, Word(Header::WORDS)),
        "Kind of WAV header",
        None,
        (&["plain", "extensible"], "odd"),
        field!(header, text => maybe(text)),
    ),
    row(
        ("tags", Group::Spec, Word(&["strip", "keep"])),
        "Whether loop points, markers and tags of the clip are kept",
        None,
        (&["strip", "keep"], "drop"),
        field!(chunks, text => chunks(text)),
    ),
    row(
        ("block-bytes", Group::Spec, One("BYTES")),
        "Size of ADPCM blocks [default: the clip's, or the format's usual one]",
        None,
        (&["256"], "x"),
        field!(block_bytes, text => whole(text, "block size")),
    ),
    row(
        ("cut", Shaping, One("RANGE")),
        "Use only a part: A..B, A+LENGTH, or seam for the best whole loop",
        Some("none"),
        (&["0.4s..2.1s", "-2s..", "seam"], "x"),
        field!(edits.cut, text => maybe(text)),
    ),
    row(
        ("piece", Shaping, One("N")),
        "Use the Nth sound between silences, as inspect numbers them",
        Some("none"),
        (&["2"], "0"),
        field!(edits.piece, text => piece(text)),
    ),
    row(
        ("snap", Shaping, Flag),
        "Move the ends of the cut to zero crossings",
        Some("false"),
        (&["true"], "yes"),
        field!(edits.snap, text => flag(text)),
    ),
    row(
        ("trim-silence", Shaping, Maybe("LEVEL", "-60dBFS")),
        "Trim silence at the ends, or noise with auto [default: -60dBFS]",
        Some("false"),
        (&["-55dBFS", "true", "auto"], "3dBFS"),
        field!(edits.trim_silence, text => maybe(text)),
    ),
    row(
        ("trim-ends", Shaping, Word(Ends::WORDS)),
        "Which ends to trim [default: both]",
        None,
        (&["head", "tail", "both"], "front"),
        field!(edits.trim_ends, text => usual(text)),
    ),
    row(
        ("breath", Shaping, One("TIMES")),
        "Silence to leave when trimming: before,after [default: 5ms,20ms]",
        None,
        (&["5ms,20ms"], "x"),
        field!(edits.breath, text => maybe(text)),
    ),
    row(
        ("edge-fade", Shaping, One("TIME")),
        "Declick fade where a cut goes through sound, or none [default: 2ms]",
        None,
        (&["2ms", "none"], "some"),
        field!(edits.edge_fade, text => edge_fade(text)),
    ),
    row(
        ("longest", Shaping, One("TIME")),
        "Longest that the result may be",
        Some("none"),
        (&["25s"], "long"),
        field!(edits.longest, text => maybe(text)),
    ),
    row(
        ("too-long", Shaping, Word(TooLong::WORDS)),
        "What to do when the result is longer [default: refuse]",
        None,
        (&["refuse", "cut", "loudest"], "quiet"),
        field!(edits.too_long, text => usual(text)),
    ),
    row(
        ("reverse", Shaping, Flag),
        "Play the clip backwards",
        Some("false"),
        (&["true"], "yes"),
        field!(reverse, text => flag(text)),
    ),
    row(
        ("keep", Shaping, Word(&["shared", "different", "all"])),
        "Keep what both channels share (a centred voice), or what differs",
        Some("all"),
        (&["shared", "different"], "both"),
        field!(edits.keep, text => maybe::<Keep>(text)),
    ),
    row(
        ("low-cut", Shaping, One("FREQUENCY")),
        "Cut frequencies below this (rumble), as in 80Hz",
        Some("none"),
        (&["80Hz", "120"], "low"),
        field!(edits.low_cut, text => maybe(text)),
    ),
    row(
        ("high-cut", Shaping, One("FREQUENCY")),
        "Cut frequencies above this (hiss), as in 7.5kHz",
        Some("none"),
        (&["7.5kHz", "12000"], "high"),
        field!(edits.high_cut, text => maybe(text)),
    ),
    row(
        ("voicing", Shaping, One("NAME")),
        "Colour a voice: quayside (horn), dispatch (radio), tin-bear (toy)",
        Some("none"),
        (&["quayside", "dispatch", "tin-bear"], "robot"),
        field!(edits.voicing, text => maybe(text)),
    ),
    row(
        ("route", Shaping, One("CHANNELS")),
        "Source channels of each output channel: \"L R R L\", \"0.7L+0.3R -\"",
        Some("none"),
        (&["L R R L", "0.7L+0.3R", "-R L"], "Q"),
        field!(edits.route, text => maybe(text)),
    ),
    row(
        ("speed", Shaping, One("FACTOR")),
        "Speed factor (changes pitch too)",
        Some("none"),
        (&["1.25", "3/2"], "0"),
        field!(edits.speed, text => maybe(text)),
    ),
    row(
        ("stretch", Shaping, One("FACTOR")),
        "Time-stretch: FACTOR times as long at the same pitch",
        Some("none"),
        (&["1.1", "4/5"], "5"),
        field!(edits.stretch, text => stretch(text)),
    ),
    row(
        ("fit-length", Shaping, One("TIME")),
        "Time-stretch to this total length, at the same pitch",
        Some("none"),
        (&["2.5s"], "short"),
        field!(edits.fit_length, text => maybe(text)),
    ),
    row(
        ("gain", Shaping, One("GAIN")),
        "Change the gain, as in +7dB",
        Some("none"),
        (&["+7dB", "-3dB"], "loud"),
        field!(edits.gain, text => maybe(text)),
    ),
    row(
        ("level", Shaping, One("LEVEL")),
        "Normalise to -1dBFS, -1dBTP, -16LUFS, stock or like:FILE",
        Some("keep"),
        (&["stock", "-1dBFS", "-1.5dBTP", "-16LUFS", "like:a.wav"], "7"),
        field!(edits.level, text => maybe(text)),
    ),
    row(
        ("ceiling", Shaping, One("LEVEL")),
        "True-peak ceiling [default: 0dB, -1dB for lossy encodings]",
        None,
        (&["-1dB"], "x"),
        field!(edits.ceiling, text => maybe(text)),
    ),
    row(
        ("allow-clipping", Shaping, Flag),
        "Clip peaks above full scale instead of limiting them",
        Some("false"),
        (&["true"], "1"),
        field!(edits.allow_clipping, text => flag(text)),
    ),
    row(
        ("fade-in", Shaping, One("TIME")),
        "Fade in over this time",
        Some("none"),
        (&["1s"], "x"),
        field!(edits.fade_in, text => maybe(text)),
    ),
    row(
        ("fade-out", Shaping, One("TIME")),
        "Fade out over this time",
        Some("none"),
        (&["1s"], "x"),
        field!(edits.fade_out, text => maybe(text)),
    ),
    row(
        ("fade-curve", Shaping, Word(Curve::WORDS)),
        "Shape of both fades [default: linear]",
        None,
        (&["linear", "equal-power"], "round"),
        field!(edits.fade_curve, text => usual(text)),
    ),
    row(
        ("pad", Shaping, One("TIMES")),
        "Add silence at both ends, or before,after",
        Some("none"),
        (&["0.5s", "0.1s,0.5s"], "x"),
        field!(edits.pad, text => maybe(text)),
    ),
    row(
        ("loop", Looping, One("RANGE")),
        "Set the loop: A..B, A+LENGTH, auto, A..auto, all or none",
        None,
        (&["12s..auto", "0.4s..1.2s", "auto", "all", "none", "-4s.."], "round"),
        field!(edits.looped, text => maybe(text)),
    ),
    row(
        ("loop-direction", Looping, Word(Direction::WORDS)),
        "Which way the loop plays [default: the clip's own, or forward]",
        None,
        (&["forward", "ping-pong", "backward"], "sideways"),
        field!(edits.loop_direction, text => maybe(text)),
    ),
    row(
        ("tail", Looping, Word(Tail::WORDS)),
        "Sound after the loop [default: cut if one is set here, else keep]",
        None,
        (&["keep", "cut", "fade", "wrap"], "off"),
        field!(edits.tail, text => maybe(text)),
    ),
    row(
        ("loop-snap", Looping, One("TIME")),
        "Move the loop end by up to TIME to where the waveforms match",
        Some("none"),
        (&["1ms"], "x"),
        field!(edits.loop_snap, text => maybe(text)),
    ),
    row(
        ("crossfade", Looping, One("TIME")),
        "Crossfade the loop end into what precedes the loop start",
        Some("none"),
        (&["50ms"], "x"),
        field!(edits.crossfade, text => maybe(text)),
    ),
    row(
        ("texture", Looping, Maybe("TIME", "auto")),
        "Loop pieces of the clip, crossfaded: rain, crowds [default: auto]",
        Some("none"),
        (&["3s", "auto"], "long"),
        field!(edits.texture, text => maybe(text)),
    ),
    row(
        ("loop-multiple", Looping, One("FRAMES")),
        "Make loop start and length multiples of this many frames",
        Some("none"),
        (&["16"], "0"),
        field!(edits.loop_multiple, text => whole(text, "number of frames")),
    ),
    row(
        ("loop-bend", Looping, One("CENTS")),
        "Most retuning to make a loop whole frames, in cents [default: 1]",
        None,
        (&["1", "0"], "500"),
        field!(edits.loop_bend, text => cents(text)),
    ),
    row(
        ("tag", Looping, Many("NAME=TEXT")),
        "Set a tag, as in TITLE=Kettle; empty removes it; repeatable",
        None,
        (&["TITLE=x", "TITLE="], "title"),
        (tag, |from, to| {
            to.edits.tags.splice(0..0, from.edits.tags.iter().cloned()).for_each(drop)
        }),
    ),
];

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn every_row_is_sound() {
        let mut names = HashSet::new();
        for option in OPTIONS {
            let OptionRow { name, help, off, examples, wrong, .. } = option;
            assert!(
                names.insert(name) && name.bytes().all(|b| b.is_ascii_lowercase() || b == b'-')
            );
            assert!(help.len() <= 70 && !help.ends_with('.'), "{name}: {}", help.len());
            assert!(help.starts_with(char::is_uppercase) && !examples.is_empty(), "{name}");
            let mut asked = HashSet::new();
            for example in *examples {
                let request = Request::read([(*name, *example)]).unwrap();
                assert_eq!(request.said().collect::<Vec<_>>(), [(*name, *example)]);
                asked.insert(format!("{request:?}"));
                // Once taken over by a request that says nothing of it, it is the same.
                let taken = Request::default().over(&request);
                assert_eq!((&taken.edits, &taken.spec), (&request.edits, &request.spec), "{name}");
                // What is asked can be told as data, and read again.
                let told = serde_json::to_string(&request.edits).unwrap();
                assert_eq!(
                    serde_json::from_str::<super::super::Edits>(&told).unwrap(),
                    request.edits
                );
            }
            assert_eq!(asked.len(), examples.len(), "{name}: each example is another request");
            assert!(Request::read([(*name, *wrong)]).is_err(), "{name} {wrong}");
            if let Some(off) = off {
                let request = Request::read([(*name, examples[0]), (*name, *off)]).unwrap();
                assert_eq!(request.edits, super::super::Edits::default(), "{name} {off}");
            }
        }
    }
}
