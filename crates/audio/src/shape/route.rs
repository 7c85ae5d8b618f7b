//! Channel routing: every output channel is a sum of source channels with gains.

use crate::block::{Block, Source};
use crate::error::Result;
use crate::spec::{Channels, Layout};
use crate::units::SampleRate;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::{Arc, Mutex};

/// For each output channel, which source channels are summed, and each one's gain.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Route(pub Vec<Vec<(usize, f64)>>);

/// A route, and the way it goes.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Law {
    /// The gains.
    pub route: Route,
    /// What becomes of what.
    pub fold: Fold,
    /// By how much all of it is scaled so that it cannot clip, in dB.
    pub scale: Option<f64>,
}

/// What becomes of what.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fold {
    /// As somebody requested.
    Requested,
    /// The mono clip to the centre, the others silent.
    Centre,
    /// The mono clip to all channels.
    All,
    /// Left and right to the front, the others silent.
    Front,
    /// The average of left and right.
    Average,
    /// The average of all channels.
    AverageOfAll,
    /// Back and side summed.
    Sides,
    /// The sums of ITU-R BS.775, low frequencies left out.
    Bs775,
}

/// ITU-R BS.775-3, annex 4: the weight of centre and surround in a fold, −3 dB.
const HALF_POWER: f64 = std::f64::consts::FRAC_1_SQRT_2;

impl Route {
    /// The usual way from one set of channels to another, or `None` where there is no usual way.
    /// A fold's gains add up to at most 1 in every channel, so that it can never clip.
    pub fn usual(from: Channels, to: Channels) -> Option<Law> {
        let (source, target) = (from.likely_layout(), to.likely_layout());
        let law =
            |rows: Vec<Vec<(usize, f64)>>, fold| Some(Law { route: Self(rows), fold, scale: None });
        if from.count() == 1 {
            let count = usize::from(to.count());
            return match target {
                Some(Layout::Surround51 | Layout::Surround71) => {
                    let mut rows = vec![Vec::new(); count];
                    rows[2] = vec![(0, 1.0)];
                    law(rows, Fold::Centre)
                }
                _ => law(vec![vec![(0, 1.0)]; count], Fold::All),
            };
        }
        let fold = target.and_then(|target| fold(source?, target));
        match (fold, to.count()) {
            (Some((rows, name)), _) => Some(scaled(rows, name)),
            (None, 1) => {
                let count = usize::from(from.count());
                let rows = vec![(0..count).map(|channel| (channel, 1.0)).collect()];
                Some(scaled(rows, Fold::AverageOfAll))
            }
            _ => None,
        }
    }

    /// Whether every output channel is a source channel as it is, or silence.
    pub fn only_picks(&self) -> bool {
        let plain = |row: &Vec<(usize, f64)>| matches!(row.as_slice(), [] | [(_, 1.0)]);
        self.0.iter().all(plain)
    }
}

impl fmt::Display for Route {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, row) in self.0.iter().enumerate() {
            if index > 0 {
                f.write_str(" ")?;
            }
            if row.is_empty() {
                f.write_str("0")?;
            }
            for (place, (channel, gain)) in row.iter().enumerate() {
                let sign = if *gain < 0.0 { "-" } else { "+" };
                if place > 0 || *gain < 0.0 {
                    f.write_str(sign)?;
                }
                let size = gain.abs();
                match (channel, size == 1.0) {
                    (0, true) => f.write_str("L")?,
                    (1, true) => f.write_str("R")?,
                    (0, false) => write!(f, "{size}L")?,
                    (1, false) => write!(f, "{size}R")?,
                    (n, true) => write!(f, "{}", n + 1)?,
                    (n, false) => write!(f, "{size}*{}", n + 1)?,
                }
            }
        }
        Ok(())
    }
}

type Rows = Vec<Vec<(usize, f64)>>;

/// The sums of ITU-R BS.775-3, annex 4, not yet scaled. Low frequencies are left out, as it says.
fn fold(from: Layout, to: Layout) -> Option<(Rows, Fold)> {
    use Layout::{Mono, Quad, Stereo, Surround51, Surround71};
    let c = HALF_POWER;
    let rows = match (from, to) {
        (Stereo, Mono) => vec![vec![(0, 1.0), (1, 1.0)]],
        (Quad, Mono) => vec![vec![(0, 1.0), (1, 1.0), (2, c), (3, c)]],
        (Quad, Stereo) => vec![vec![(0, 1.0), (2, c)], vec![(1, 1.0), (3, c)]],
        (Surround51, Mono) => vec![vec![(0, c), (1, c), (2, 1.0), (4, 0.5), (5, 0.5)]],
        (Surround51, Stereo) => {
            vec![vec![(0, 1.0), (2, c), (4, c)], vec![(1, 1.0), (2, c), (5, c)]]
        }
        (Surround71, Mono) => {
            vec![vec![(0, c), (1, c), (2, 1.0), (4, 0.5), (5, 0.5), (6, 0.5), (7, 0.5)]]
        }
        (Surround71, Stereo) => {
            vec![vec![(0, 1.0), (2, c), (4, c), (6, c)], vec![(1, 1.0), (2, c), (5, c), (7, c)]]
        }
        (Surround71, Surround51) => vec![
            vec![(0, 1.0)],
            vec![(1, 1.0)],
            vec![(2, 1.0)],
            vec![(3, 1.0)],
            vec![(4, 1.0), (6, 1.0)],
            vec![(5, 1.0), (7, 1.0)],
        ],
        (Stereo, Quad | Surround51 | Surround71) => {
            let count = usize::from(Channels::of(to).count());
            let mut rows = vec![Vec::new(); count];
            rows[0] = vec![(0, 1.0)];
            rows[1] = vec![(1, 1.0)];
            return Some((rows, Fold::Front));
        }
        _ => return None,
    };
    let name = match (from, to) {
        (Stereo, Mono) => Fold::Average,
        (Surround71, Surround51) => Fold::Sides,
        _ => Fold::Bs775,
    };
    Some((rows, name))
}

/// Scales all rows alike until the largest sum of gains is 1.
fn scaled(mut rows: Rows, fold: Fold) -> Law {
    let sum = |row: &Vec<(usize, f64)>| row.iter().map(|(_, gain)| gain.abs()).sum::<f64>();
    let largest = rows.iter().map(sum).fold(0.0, f64::max).max(1.0);
    for (_, gain) in rows.iter_mut().flatten() {
        *gain /= largest;
    }
    let scale = (largest > 1.0).then(|| crate::num::decibels(1.0 / largest));
    Law { route: Route(rows), fold, scale }
}

/// How the two channels of a fold lie to each other.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Phase {
    left: f64,
    right: f64,
    product: f64,
}

impl Phase {
    /// 1 where they are equal, 0 where they have nothing in common, −1 where they are opposite;
    /// `None` where one is silent.
    pub fn correlation(&self) -> Option<f64> {
        let power = (self.left * self.right).sqrt();
        (power > 0.0).then(|| self.product / power)
    }

    fn add(&mut self, block: &Block) {
        if let [left, right] = block.channels() {
            for (l, r) in left.iter().zip(right) {
                self.left += l * l;
                self.right += r * r;
                self.product += l * r;
            }
        }
    }
}

/// Carries out a route.
pub struct Router<S> {
    source: S,
    route: Route,
    pulled: Block,
    phase: Arc<Mutex<Phase>>,
}

impl<S: Source> Router<S> {
    /// Routes what `source` gives. Source channels that do not exist are silent. Where two channels
    /// become one sum, `phase` learns how alike they are.
    pub fn new(source: S, route: Route, phase: Arc<Mutex<Phase>>) -> Self {
        let pulled = Block::new(source.channels());
        Self { source, route, pulled, phase }
    }

    fn folds(&self) -> bool {
        matches!(self.route.0.as_slice(), [row] if row.len() == 2)
    }
}

impl<S: Source> Source for Router<S> {
    fn rate(&self) -> SampleRate {
        self.source.rate()
    }
    fn channels(&self) -> usize {
        self.route.0.len()
    }
    fn next(&mut self, block: &mut Block) -> Result<()> {
        self.source.next(&mut self.pulled)?;
        if self.folds()
            && let Ok(mut phase) = self.phase.lock()
        {
            phase.add(&self.pulled);
        }
        block.shape(self.route.0.len(), self.pulled.frames());
        for (out, row) in block.channels_mut().iter_mut().zip(&self.route.0) {
            out.fill(0.0);
            for &(from, gain) in row {
                let Some(samples) = self.pulled.channels().get(from) else {
                    continue;
                };
                for (sum, sample) in out.iter_mut().zip(samples) {
                    *sum += gain * sample;
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn usual(from: &str, to: &str) -> Option<Law> {
        let [from, to] = [from, to].map(|word| Channels::from_word(word).unwrap());
        Route::usual(from, to)
    }

    #[test]
    fn no_fold_can_clip() {
        for from in ["mono", "stereo", "quad", "5.1", "7.1", "3ch", "32ch"] {
            for to in ["mono", "stereo", "quad", "5.1", "7.1"] {
                for row in usual(from, to).iter().flat_map(|law| &law.route.0) {
                    let sum: f64 = row.iter().map(|(_, gain)| gain).sum();
                    assert!(sum <= 1.0 + 1e-12, "{from} to {to}: {row:?}");
                }
            }
        }
    }

    /// The ratios of ITU-R BS.775-3, annex 4, table 2.
    #[test]
    fn surround_folds_keep_the_ratios_of_the_standard() {
        let law = usual("5.1", "stereo").unwrap();
        let [left, right] = &law.route.0[..] else { panic!() };
        let scale = left[0].1;
        let expect = |row: &[(usize, f64)], want: [(usize, f64); 3]| {
            for ((channel, gain), (want_channel, want_gain)) in row.iter().zip(want) {
                assert_eq!(*channel, want_channel);
                assert!((gain / scale - want_gain).abs() < 1e-4);
            }
        };
        expect(left, [(0, 1.0), (2, 0.5f64.sqrt()), (4, 0.5f64.sqrt())]);
        expect(right, [(1, 1.0), (2, 0.5f64.sqrt()), (5, 0.5f64.sqrt())]);
        assert!((law.scale.unwrap() + 7.7).abs() < 0.05, "{law:?}");
        let mono = usual("stereo", "mono").unwrap();
        assert_eq!(mono.route.0, [vec![(0, 0.5), (1, 0.5)]]);
    }

    #[test]
    fn some_ways_have_no_usual_law() {
        assert_eq!(usual("3ch", "stereo"), None);
        assert_eq!(usual("stereo", "3ch"), None);
        assert!(usual("mono", "32ch").unwrap().route.only_picks());
    }
}
