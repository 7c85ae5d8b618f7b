//! What a user asks to be done to a clip, as it was typed: nothing here looks at the clip.

mod cut;
mod factor;
mod frequency;
mod level;
mod looped;
mod options;
mod request;
mod route;
mod time;
mod values;

pub use cut::CutEdit;
pub use factor::Factor;
pub use frequency::Frequency;
pub use level::{Gain, Level, LevelGoal};
pub use looped::{LoopEdit, Tail, TextureEdit};
pub use options::{Group, OPTIONS, OptionRow, ValueKind, option};
pub use request::{Overruled, Request};
pub use time::{Moment, Span, SpanEnd, Time};

use crate::clip::{Direction, Tag};
use crate::invalid::Invalid;
pub use crate::measure::SilenceLevel;
use crate::shape::fade::Curve;
use crate::shape::route::Route;
use crate::shape::separate::Keep;
use crate::shape::voicing::Voicing;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::num::NonZeroU64;

/// Everything that can be asked. The default asks for nothing.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Edits {
    /// Which part of the clip; all of it by default.
    pub cut: Option<CutEdit>,
    /// Which of the sounds between silences, counted from 1.
    pub piece: Option<u32>,
    /// Move the ends of the cut to the nearest zero crossing.
    pub snap: bool,
    /// Take silence off the ends: what lies below this.
    pub trim_silence: Option<SilenceLevel>,
    /// At which ends.
    pub trim_ends: Ends,
    /// How much of it is left; 5 ms before and 20 ms after by default.
    pub breath: Option<Pad>,
    /// Fades where the cut is not at silence; 2 ms by default, 0 for none.
    pub edge_fade: Option<Time>,
    /// The shortest loop that may be found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loop_shortest: Option<Time>,
    /// The longest loop that may be found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loop_longest: Option<Time>,
    /// The longest that the result may be.
    pub longest: Option<Time>,
    /// What to do where it is longer.
    pub too_long: TooLong,
    /// Keep only what both channels share, or what they do not.
    pub keep: Option<Keep>,
    /// Give it the colour of a loudspeaker.
    pub voicing: Option<Voicing>,
    /// Take away what lies below this frequency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub low_cut: Option<Frequency>,
    /// Take away what lies above this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub high_cut: Option<Frequency>,
    /// Which source channels feed each output channel.
    pub route: Option<Route>,
    /// Play faster (above 1) or slower, pitch and all.
    pub speed: Option<Factor>,
    /// Make it last longer (above 1) or shorter, at the pitch that it has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stretch: Option<Factor>,
    /// Make the result last so long, silence that is added included, at the pitch that it has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fit_length: Option<Time>,
    /// Louder or quieter by so much.
    pub gain: Option<Gain>,
    /// As loud as this.
    pub level: Option<Level>,
    /// The highest that peaks may go, in dB; 0 dBFS for PCM, −1 dBTP for lossy encodings.
    pub ceiling: Option<Gain>,
    /// Let samples beyond full scale clip instead of limiting them.
    pub allow_clipping: bool,
    /// A fade at the start.
    pub fade_in: Option<Time>,
    /// A fade at the end.
    pub fade_out: Option<Time>,
    /// The form of both.
    pub fade_curve: Curve,
    /// Silence to add before and after.
    pub pad: Option<Pad>,
    /// The loop region; the clip's own by default.
    #[serde(rename = "loop")]
    pub looped: Option<LoopEdit>,
    /// Which way the loop plays; as the clip's own does by default, else forward.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loop_direction: Option<Direction>,
    /// What becomes of the sound after the loop; it goes where the loop is set here, and stays where
    /// it came with the clip.
    pub tail: Option<Tail>,
    /// Move the loop's end by so much at most, to where the wave matches that at its start.
    pub loop_snap: Option<Time>,
    /// Let the loop's end fade into what comes before its start, over so long.
    pub crossfade: Option<Time>,
    /// Make a loop without an end out of pieces of the part that is used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub texture: Option<TextureEdit>,
    /// The loop starts at, and lasts for, a multiple of this many frames of the output.
    pub loop_multiple: Option<NonZeroU64>,
    /// The most that pitch may bend to make the loop a whole number of frames, in cents; 1 where the
    /// rate is converted, and none where nothing is, unless it is said.
    pub loop_bend: Option<f64>,
    /// Texts to set; an empty one takes a text away.
    pub tags: Vec<Tag>,
    /// Say in the file that it is a guide to something else, not the clip.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub guide: bool,
}

/// Taking silence off.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Trim {
    /// What is silence.
    pub below: SilenceLevel,
    /// At which ends.
    pub ends: Ends,
    /// How much is left before the sound.
    pub head: Time,
    /// How much is left after it.
    pub tail: Time,
}

/// One end or both.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names say it")]
pub enum Ends {
    Head,
    Tail,
    #[default]
    Both,
}

/// What to do with a result that is too long.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum TooLong {
    /// Say so, and do nothing.
    #[default]
    Refuse,
    /// Cut its end off, with a fade.
    Cut,
    /// Keep its loudest passage of that length.
    Loudest,
}

crate::invalid::words!(Ends, "end", "head" => Self::Head, "tail" => Self::Tail, "both" => Self::Both);
crate::invalid::words!(
    TooLong, "remedy",
    "refuse" => Self::Refuse, "cut" => Self::Cut, "loudest" => Self::Loudest,
);
crate::invalid::as_word!(Ends, TooLong);

/// Silence to add.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Pad {
    /// Before.
    pub head: Time,
    /// After.
    pub tail: Time,
}

impl Edits {
    /// How silence is taken off the ends; `None` where it stays.
    pub fn trim(&self) -> Option<Trim> {
        let usual = Pad { head: Time::Seconds(0.005), tail: Time::Seconds(0.02) };
        let Pad { head, tail } = self.breath.unwrap_or(usual);
        let ends = self.trim_ends;
        self.trim_silence.map(|below| Trim { below, ends, head, tail })
    }

    /// Whether nothing is asked.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

impl std::str::FromStr for Pad {
    type Err = Invalid;

    /// Reads `0.5s` (both ends) or `0.1s,0.5s` (before, after).
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let (head, tail) = text.split_once(',').unwrap_or((text, text));
        Ok(Self { head: head.parse()?, tail: tail.parse()? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pads() {
        let pad: Pad = "100ms,2".parse().unwrap();
        assert_eq!((pad.head.to_string(), pad.tail.to_string()), ("0.1s".into(), "2s".into()));
    }
}
