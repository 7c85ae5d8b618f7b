//! What is done to a clip.

use clap::{Args, ValueEnum};
use deft_needle_audio::clip::Tag;
use deft_needle_audio::edit::{CutEdit, Gain, Level, LoopEdit, Pad, Speed, Time};
use deft_needle_audio::shape::route::Route;
use deft_needle_audio::shape::voicing::Voicing;
use std::num::NonZeroU64;

/// What is done to a clip before it is fitted.
#[derive(Debug, Args)]
#[command(
    next_help_heading = "Shaping (times are the clip's own: 47, 1.25s, 250ms, 1:02.5, 48000smp, 12bars@96bpm)"
)]
pub struct Shaping {
    /// Use only a part: A..B or A+LENGTH; a minus counts from the end; "seam": what goes round best as a whole
    #[arg(long, value_name = "RANGE", allow_hyphen_values = true)]
    pub cut: Option<CutEdit>,
    /// Use the Nth sound between silences, as inspect numbers them
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub piece: Option<u32>,
    /// Move the ends of the cut to zero crossings
    #[arg(long)]
    pub snap: bool,
    /// Take silence off the ends; a lower LEVEL takes less [default: -60dBFS]
    #[arg(long, value_name = "LEVEL", num_args = 0..=1, require_equals = true, default_missing_value = "-60dBFS", value_parser = silence_level)]
    pub trim_silence: Option<f64>,
    /// At which ends
    #[arg(long, value_name = "ENDS", requires = "trim_silence")]
    pub trim_ends: Option<TrimEnds>,
    /// How much silence to leave: before,after
    #[arg(long, value_name = "TIMES", requires = "trim_silence", default_value = "5ms,20ms")]
    pub breath: Pad,
    /// Fades where a cut goes through sound, or "none" [default: 2ms]
    #[arg(long, value_name = "TIME", value_parser = edge_fade)]
    pub edge_fade: Option<Time>,
    /// The longest that the result may be
    #[arg(long, value_name = "TIME")]
    pub longest: Option<Time>,
    /// What to do where it is longer
    #[arg(long, value_name = "WHAT", requires = "longest")]
    pub too_long: Option<TooLongChoice>,
    /// Keep what both channels share (a voice in the middle), or what they do not
    #[arg(long, value_name = "PART")]
    pub keep: Option<KeepChoice>,
    /// Colour a voice: quayside (a horn across a harbour), dispatch (a two-way radio), tin-bear (a toy)
    #[arg(long, value_name = "NAME")]
    pub voicing: Option<Voicing>,
    /// Which channels feed each output channel: "L R R L", "0.7L+0.3R", "1 0"
    #[arg(long, value_name = "CHANNELS", allow_hyphen_values = true)]
    pub route: Option<Route>,
    /// Play so many times as fast, pitch and all
    #[arg(long, value_name = "TIMES")]
    pub speed: Option<Speed>,
    /// Louder or quieter, as in +7dB
    #[arg(long, value_name = "GAIN", allow_hyphen_values = true)]
    pub gain: Option<Gain>,
    /// As loud as: -1dBFS, -1dBTP, -16LUFS, stock, like:FILE
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    pub level: Option<Level>,
    /// Hold true peaks below this [default: 0dB, -1dB for lossy encodings]
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    pub ceiling: Option<Gain>,
    /// Clip what goes beyond full scale instead of limiting it
    #[arg(long)]
    pub allow_clipping: bool,
    /// Fade in over this time
    #[arg(long, value_name = "TIME")]
    pub fade_in: Option<Time>,
    /// Fade out over this time
    #[arg(long, value_name = "TIME")]
    pub fade_out: Option<Time>,
    /// The form of both fades
    #[arg(long, value_name = "FORM")]
    pub fade_curve: Option<FadeCurve>,
    /// Add silence: both ends, or before,after
    #[arg(long, value_name = "TIMES")]
    pub pad: Option<Pad>,
    /// What goes round: A..B or A+LENGTH (the end is not played), auto, A..auto, all, none [default: as the clip has it]
    #[arg(long = "loop", value_name = "RANGE", allow_hyphen_values = true)]
    pub looped: Option<LoopEdit>,
    #[command(flatten)]
    pub mending: Mending,
    /// The loop starts at and lasts for multiples of so many frames
    #[arg(long, value_name = "FRAMES")]
    pub loop_multiple: Option<NonZeroU64>,
    /// How far pitch may bend to make the loop whole frames, in cents [default: 1, and 0 where nothing is converted]
    #[arg(long, value_name = "CENTS", value_parser = cents)]
    pub loop_bend: Option<f64>,
    /// Set a text, as in TITLE=Kettle; an empty one takes it away; again for each
    #[arg(long = "tag", value_name = "NAME=TEXT", value_parser = tag)]
    pub tag: Vec<Tag>,
}

/// What is done to a loop's seam.
#[derive(Debug, Args)]
pub struct Mending {
    /// What becomes of the sound behind the loop [default: cut where --loop sets one, else keep]
    #[arg(long, value_name = "WHAT")]
    pub tail: Option<TailChoice>,
    /// Move the loop's end by up to TIME, to where the wave matches that at its start
    #[arg(long, value_name = "TIME")]
    pub loop_snap: Option<Time>,
    /// Fade the loop's end into what comes before its start
    #[arg(long, value_name = "TIME")]
    pub crossfade: Option<Time>,
}

/// Beyond a semitone it would be another note.
fn cents(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(cents) if (0.0..=100.0).contains(&cents) => Ok(cents),
        _ => Err("write cents from 0 to 100, as in 1".to_owned()),
    }
}

fn tag(text: &str) -> Result<Tag, String> {
    match text.split_once('=') {
        Some((name, value))
            if !name.is_empty() && name.bytes().all(|b| (0x20..0x7E).contains(&b)) =>
        {
            Ok(Tag::new(&name.to_uppercase(), value))
        }
        _ => Err("write NAME=TEXT, as in TITLE=Kettle; names are plain letters".to_owned()),
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum TrimEnds {
    Head,
    Tail,
    Both,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum TooLongChoice {
    /// Say so, and do nothing
    Refuse,
    /// Cut the end off, with a fade
    Cut,
    /// Keep the loudest passage
    Loudest,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum KeepChoice {
    Shared,
    Different,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum TailChoice {
    Keep,
    Cut,
    Fade,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum FadeCurve {
    Linear,
    EqualPower,
}

fn silence_level(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(Level::Peak(db)) if db < 0.0 => Ok(db),
        _ => Err("write a level below full scale, as in -55dBFS".to_owned()),
    }
}

fn edge_fade(text: &str) -> Result<Time, String> {
    match text {
        "none" => Ok(Time::Frames(0)),
        text => text.parse(),
    }
}
