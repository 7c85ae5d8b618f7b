//! Fades at both ends.

use super::blocks::BlockStep;
use crate::block::Block;
use crate::num::{count, real};
use std::f64::consts::FRAC_PI_2;

/// The form of a fade.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Curve {
    /// The level rises evenly.
    #[default]
    Linear,
    /// The power rises evenly: a quarter of a sine.
    EqualPower,
}

crate::invalid::words!(Curve, "fade curve", "linear" => Self::Linear, "equal-power" => Self::EqualPower);
crate::invalid::as_word!(Curve);

impl Curve {
    /// The gain at `x` of the way, 0 to 1.
    pub fn gain(self, x: f64) -> f64 {
        match self {
            Self::Linear => x,
            Self::EqualPower => (x * FRAC_PI_2).sin(),
        }
    }
}

/// Fades in and out.
pub struct Faded {
    frames: u64,
    head: u64,
    tail: u64,
    curve: Curve,
    at: u64,
}

impl Faded {
    /// A source of `frames` frames rises over the first `head` and falls over the last `tail`.
    pub fn new(frames: u64, head: u64, tail: u64, curve: Curve) -> Self {
        Self { frames, head: head.min(frames), tail: tail.min(frames), curve, at: 0 }
    }

    /// The gain of one frame: 0 just before the first and just after the last.
    fn gain(&self, frame: u64) -> f64 {
        let side = |distance: u64, length: u64| match distance <= length {
            true => self.curve.gain(real(distance) / real(length + 1)),
            false => 1.0,
        };
        let from_end = self.frames.saturating_sub(frame);
        side(frame + 1, self.head) * side(from_end, self.tail)
    }
}

impl BlockStep for Faded {
    fn work(&mut self, block: &mut Block) {
        let (start, end) = (self.at, self.at + count(block.frames()));
        self.at = end;
        let plain = start >= self.head && end <= self.frames.saturating_sub(self.tail);
        if plain {
            return;
        }
        for samples in block.channels_mut() {
            for (frame, sample) in (start..).zip(samples) {
                let inside = frame < self.head || frame >= self.frames.saturating_sub(self.tail);
                if inside {
                    *sample *= self.gain(frame);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::block::{Samples, collect};
    use crate::units::SampleRate;

    fn faded(head: u64, tail: u64, curve: Curve) -> Vec<f64> {
        let rate = SampleRate::new(8000).unwrap();
        let source = Samples::new(rate, vec![vec![1.0; 20]]).in_blocks_of(7);
        collect(&mut Faded::new(20, head, tail, curve).on(source)).unwrap().remove(0)
    }

    #[test]
    fn gains_by_the_book() {
        let out = faded(3, 4, Curve::Linear);
        let want = |i: usize| match i {
            0..3 => (i + 1) as f64 / 4.0,
            16.. => (20 - i) as f64 / 5.0,
            _ => 1.0,
        };
        for (i, found) in out.iter().enumerate() {
            assert!((found - want(i)).abs() < 1e-12, "{i}: {found}");
        }
        let power: f64 = faded(19, 0, Curve::EqualPower)[9].powi(2);
        assert!((power - 0.5).abs() < 1e-12);
        assert_eq!(faded(0, 0, Curve::Linear), [1.0; 20]);
    }
}
