//! Channel counts and layouts.

use std::fmt;

/// Which loudspeaker each channel is for, in the order of WAV (SMPTE ST 2036-2, RIFF channel mask).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Layout {
    /// Centre.
    Mono,
    /// Left, right.
    Stereo,
    /// Front left and right, back left and right.
    Quad,
    /// Front left, right, centre, low frequencies, surround left and right.
    Surround51,
    /// As 5.1 with back left and right before side left and right.
    Surround71,
}

const LAYOUTS: [(Layout, &str, u16); 5] = [
    (Layout::Mono, "mono", 1),
    (Layout::Stereo, "stereo", 2),
    (Layout::Quad, "quad", 4),
    (Layout::Surround51, "5.1", 6),
    (Layout::Surround71, "7.1", 8),
];

/// The most channels that are handled.
pub const MOST_CHANNELS: u16 = 32;

/// A number of channels, 1 to 32, and their layout where it is stated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Channels {
    count: u16,
    layout: Option<Layout>,
}

impl Channels {
    /// One channel.
    pub const MONO: Self = Self { count: 1, layout: Some(Layout::Mono) };
    /// Two channels.
    pub const STEREO: Self = Self { count: 2, layout: Some(Layout::Stereo) };

    /// This many channels of an unstated layout (one is mono, two are stereo); `None` beyond 1 to 32.
    pub fn new(count: u16) -> Option<Self> {
        match count {
            1 => Some(Self::MONO),
            2 => Some(Self::STEREO),
            3..=MOST_CHANNELS => Some(Self { count, layout: None }),
            _ => None,
        }
    }

    /// The layout that a number of channels has where formats name none: 4 quad, 6 and 8 surround; others are channels
    /// by themselves. `None` for 0 and more than 32.
    pub fn usual(count: u16) -> Option<Self> {
        Self::new(count).map(|plain| plain.likely_layout().map_or(plain, Self::of))
    }

    /// The channels of a layout.
    pub fn of(layout: Layout) -> Self {
        let count = LAYOUTS.iter().find(|row| row.0 == layout).map_or(1, |row| row.2);
        Self { count, layout: Some(layout) }
    }

    /// How many.
    pub const fn count(self) -> u16 {
        self.count
    }

    /// Which, where it is stated.
    pub const fn layout(self) -> Option<Layout> {
        self.layout
    }

    /// The channel of low frequencies, counted from 0, where there is one.
    pub const fn low_frequency_channel(self) -> Option<usize> {
        match self.layout {
            Some(Layout::Surround51 | Layout::Surround71) => Some(3),
            Some(Layout::Mono | Layout::Stereo | Layout::Quad) | None => None,
        }
    }

    /// Which by count alone, where a layout of this many channels has a name.
    pub fn likely_layout(self) -> Option<Layout> {
        self.layout.or_else(|| LAYOUTS.iter().find(|row| row.2 == self.count).map(|row| row.0))
    }

    /// Reads `mono`, `stereo`, `quad`, `5.1`, `7.1` or `Nch`.
    pub fn from_word(word: &str) -> Option<Self> {
        let lower = word.to_ascii_lowercase();
        if let Some(row) = LAYOUTS.iter().find(|row| row.1 == lower) {
            return Some(Self::of(row.0));
        }
        Self::new(lower.strip_suffix("ch")?.parse().ok()?)
    }

    /// Whether a file of channels `have` satisfies a wish for these: the count is the same, and the
    /// layouts are where both are stated.
    pub fn accepts(self, have: Self) -> bool {
        let same = self.layout.is_none() || have.layout.is_none() || self.layout == have.layout;
        self.count == have.count && same
    }
}

/// For each channel of WAV's order, which it is in that of Vorbis and Opus ("Vorbis I specification",
/// 4.3.9; RFC 7845, 5.1.1.2), for 1 to 8 channels.
pub fn vorbis_order(count: usize) -> &'static [usize] {
    match count {
        3 => &[0, 2, 1],
        5 => &[0, 2, 1, 3, 4],
        6 => &[0, 2, 1, 5, 3, 4],
        7 => &[0, 2, 1, 6, 5, 3, 4],
        8 => &[0, 2, 1, 7, 5, 6, 3, 4],
        n => &[0, 1, 2, 3][..n.min(4)],
    }
}

impl fmt::Display for Channels {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match LAYOUTS.iter().find(|row| Some(row.0) == self.layout) {
            Some(row) => f.write_str(row.1),
            None => write!(f, "{}ch", self.count),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words() {
        for (word, count, shown) in [
            ("mono", 1, "mono"),
            ("1ch", 1, "mono"),
            ("2ch", 2, "stereo"),
            ("QUAD", 4, "quad"),
            ("4ch", 4, "4ch"),
            ("5.1", 6, "5.1"),
            ("32ch", 32, "32ch"),
        ] {
            let channels = Channels::from_word(word).unwrap();
            assert_eq!((channels.count(), channels.to_string().as_str()), (count, shown));
        }
        for word in ["0ch", "33ch", "ch", "2", "surround", "-1ch"] {
            assert_eq!(Channels::from_word(word), None, "{word}");
        }
    }

    #[test]
    fn a_stated_layout_is_only_compared_with_a_stated_one() {
        let [quad, four] = ["quad", "4ch"].map(|w| Channels::from_word(w).unwrap());
        assert!(quad.accepts(four) && four.accepts(quad) && quad.accepts(quad));
        assert!(!quad.accepts(Channels::STEREO));
    }
}
