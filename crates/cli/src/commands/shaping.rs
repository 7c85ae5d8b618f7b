//! The shaping options as edits.

use crate::args::{FadeCurve, KeepChoice, Mending, Shaping, TailChoice, TooLongChoice, TrimEnds};
use deft_needle_audio::Edits;
use deft_needle_audio::edit::{Ends, Tail, TooLong, Trim};
use deft_needle_audio::shape::fade::Curve;
use deft_needle_audio::shape::separate::Keep;

impl Shaping {
    /// What was typed, as the library knows it.
    pub fn edits(&self) -> Edits {
        let ends = match self.trim_ends {
            Some(TrimEnds::Head) => Ends::Head,
            Some(TrimEnds::Tail) => Ends::Tail,
            Some(TrimEnds::Both) | None => Ends::Both,
        };
        Edits {
            cut: self.cut,
            piece: self.piece,
            snap: self.snap,
            trim: self.trim_silence.map(|below| Trim {
                below,
                ends,
                head: self.breath.head,
                tail: self.breath.tail,
            }),
            edge_fade: self.edge_fade,
            longest: self.longest,
            too_long: match self.too_long {
                Some(TooLongChoice::Cut) => TooLong::Cut,
                Some(TooLongChoice::Loudest) => TooLong::Loudest,
                Some(TooLongChoice::Refuse) | None => TooLong::Refuse,
            },
            keep: self.keep.map(|part| match part {
                KeepChoice::Shared => Keep::Shared,
                KeepChoice::Different => Keep::Different,
            }),
            voicing: self.voicing,
            route: self.route.clone(),
            speed: self.speed,
            gain: self.gain,
            level: self.level.clone(),
            ceiling: self.ceiling,
            allow_clipping: self.allow_clipping,
            fade_in: self.fade_in,
            fade_out: self.fade_out,
            fade_curve: match self.fade_curve {
                Some(FadeCurve::EqualPower) => Curve::EqualPower,
                Some(FadeCurve::Linear) | None => Curve::Linear,
            },
            pad: self.pad,
            looped: self.looped,
            loop_multiple: self.loop_multiple,
            loop_bend: self.loop_bend,
            tags: self.tag.clone(),
            ..self.mending.edits()
        }
    }
}

impl Mending {
    /// What was typed, as the library knows it.
    pub fn edits(&self) -> Edits {
        Edits {
            tail: self.tail.map(|tail| match tail {
                TailChoice::Keep => Tail::Keep,
                TailChoice::Cut => Tail::Cut,
                TailChoice::Fade => Tail::Fade,
            }),
            loop_snap: self.loop_snap,
            crossfade: self.crossfade,
            ..Edits::default()
        }
    }
}
