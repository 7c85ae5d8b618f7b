//! The spec line: `wav pcm8|imaadpcm 18900|9450 mono`.

use super::{CONTAINERS, Channels, Container, ENCODINGS, Encoding, Format};
use crate::error::{Error, Result};
use crate::units::SampleRate;
use std::fmt;
use std::str::FromStr;

/// The lowest and the highest sample rate that are converted, in hertz.
pub const RATES: std::ops::RangeInclusive<u32> = 1_000..=384_000;

/// One word of a spec line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Choice<T> {
    /// The clip's own value stays.
    Any,
    /// The first is what is written, the others are accepted; never empty.
    OneOf(Vec<T>),
}

impl<T: Copy> Choice<T> {
    /// The value where there is just one.
    pub fn only(&self) -> Option<T> {
        match self {
            Self::OneOf(values) if values.len() == 1 => values.first().copied(),
            _ => None,
        }
    }

    /// What is written; `None` for any.
    pub fn first(&self) -> Option<T> {
        match self {
            Self::Any => None,
            Self::OneOf(values) => values.first().copied(),
        }
    }

    /// The clip's own value where it is accepted, else the first alternative.
    pub fn pick(&self, own: T, accepts: impl Fn(T, T) -> bool) -> T {
        match self {
            Self::Any => own,
            Self::OneOf(values) if values.iter().any(|&v| accepts(v, own)) => own,
            Self::OneOf(values) => values.first().copied().unwrap_or(own),
        }
    }

    /// The alternative that a value satisfies, alone; any stays any.
    fn narrowed(&self, own: T, accepts: impl Fn(T, T) -> bool) -> Option<Self> {
        match self {
            Self::Any => Some(Self::Any),
            Self::OneOf(values) => {
                let met = values.iter().find(|&&value| accepts(value, own))?;
                Some(Self::OneOf(vec![*met]))
            }
        }
    }

    /// Whether a value satisfies this word.
    pub fn accepts(&self, own: T, accepts: impl Fn(T, T) -> bool) -> bool {
        match self {
            Self::Any => true,
            Self::OneOf(values) => values.iter().any(|&v| accepts(v, own)),
        }
    }
}

/// What a file must be: container, encoding, sample rate, channels, each with its alternatives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spec {
    /// What wraps the audio.
    pub container: Choice<Container>,
    /// How samples are stored.
    pub encoding: Choice<Encoding>,
    /// Frames a second.
    pub rate: Choice<SampleRate>,
    /// How many channels.
    pub channels: Choice<Channels>,
}

impl Spec {
    /// Accepts everything.
    pub const ANY: Self = Self {
        container: Choice::Any,
        encoding: Choice::Any,
        rate: Choice::Any,
        channels: Choice::Any,
    };

    /// Exactly this format.
    pub fn exactly(format: Format) -> Self {
        Self {
            container: Choice::OneOf(vec![format.container]),
            encoding: Choice::OneOf(vec![format.encoding]),
            rate: Choice::OneOf(vec![format.rate]),
            channels: Choice::OneOf(vec![format.channels]),
        }
    }

    /// Whether a file of this format satisfies every word.
    pub fn accepts(&self, format: Format) -> bool {
        self.container.accepts(format.container, |a, b| a == b)
            && self.encoding.accepts(format.encoding, Encoding::accepts)
            && self.rate.accepts(format.rate, |a, b| a == b)
            && self.channels.accepts(format.channels, Channels::accepts)
    }

    /// The same with those alternatives alone that a format satisfies; `None` where it does not.
    pub fn narrowed(&self, format: Format) -> Option<Self> {
        Some(Self {
            container: self.container.narrowed(format.container, |a, b| a == b)?,
            encoding: self.encoding.narrowed(format.encoding, Encoding::accepts)?,
            rate: self.rate.narrowed(format.rate, |a, b| a == b)?,
            channels: self.channels.narrowed(format.channels, Channels::accepts)?,
        })
    }

    /// The same, of its alternatives the one container that a name stands for; `None` where it is none of them.
    pub fn named(&self, container: Container) -> Option<Self> {
        let Choice::OneOf(all) = &self.container else { return None };
        let container = Choice::OneOf(vec![*all.iter().find(|one| **one == container)?]);
        Some(Self { container, ..self.clone() })
    }

    /// What is written of clips that have nothing of it yet; `None` where a word leaves that open.
    pub fn written(&self) -> Option<Format> {
        Some(Format {
            container: self.container.first()?,
            encoding: self.encoding.first()?,
            rate: self.rate.first()?,
            channels: self.channels.first()?,
        })
    }

    /// What a clip of format `own` becomes: its own value wherever that is accepted.
    pub fn pick(&self, own: Format) -> Format {
        Format {
            container: self.container.pick(own.container, |a, b| a == b),
            encoding: self.encoding.pick(own.encoding, Encoding::accepts),
            rate: self.rate.pick(own.rate, |a, b| a == b),
            channels: self.channels.pick(own.channels, Channels::accepts),
        }
    }
}

impl FromStr for Spec {
    type Err = Error;

    /// # Errors
    /// [`Error::BadSpec`] naming the word that is wrong and what it could be.
    fn from_str(line: &str) -> Result<Self> {
        let bad = |what: String| Error::BadSpec { line: line.to_owned(), what };
        let words: Vec<&str> = line.split_whitespace().collect();
        let &[container, encoding, rate, channels] = words.as_slice() else {
            return Err(bad(match words.len() {
                // A shell gives the first word alone where the line has no quotes.
                1 => "found 1 word: put it in quotes".to_owned(),
                many => format!("found {many} words"),
            }));
        };
        let list = |names: Vec<&str>| names.join(" ");
        Ok(Self {
            container: choice(container, Container::from_word).map_err(|word| {
                let known = list(CONTAINERS.iter().map(|row| row.word).collect());
                bad(format!("\"{word}\" is not a container; known are: {known}"))
            })?,
            encoding: choice(encoding, Encoding::from_word).map_err(|word| {
                let known = list(ENCODINGS.iter().map(|row| row.word).collect());
                bad(format!("\"{word}\" is not an encoding; known are: {known}"))
            })?,
            rate: choice(rate, rate_from_word).map_err(|word| {
                bad(format!(
                    "\"{word}\" is not a sample rate in hertz from {} to {}",
                    RATES.start(),
                    RATES.end()
                ))
            })?,
            channels: choice(channels, Channels::from_word).map_err(|word| {
                bad(format!(
                    "\"{word}\" is not a channel layout; known are: mono stereo quad 5.1 7.1 and 1ch to 32ch"
                ))
            })?,
        })
    }
}

/// Hertz, or as people say them: `44100Hz`, `44.1kHz`, `44.1k`.
fn rate_from_word(word: &str) -> Option<SampleRate> {
    let word = word.to_ascii_lowercase();
    let bare = word.strip_suffix("hz").unwrap_or(&word);
    let hertz = match bare.strip_suffix('k') {
        None => bare.parse().ok()?,
        Some(thousands) => {
            let (whole, parts) = thousands.split_once('.').unwrap_or((thousands, ""));
            let parts: u32 = format!("{parts:0<3}").get(..3)?.parse().ok()?;
            whole.parse::<u32>().ok()?.checked_mul(1000)?.checked_add(parts)?
        }
    };
    SampleRate::new(Some(hertz).filter(|hertz| RATES.contains(hertz))?)
}

/// Reads `any` or alternatives; the error is the alternative that is wrong.
fn choice<T>(word: &str, parse: impl Fn(&str) -> Option<T>) -> Result<Choice<T>, &str> {
    if word.eq_ignore_ascii_case("any") {
        return Ok(Choice::Any);
    }
    word.split('|').map(|one| parse(one).ok_or(one)).collect::<Result<_, _>>().map(Choice::OneOf)
}

impl<T: fmt::Display> fmt::Display for Choice<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Any => f.write_str("any"),
            Self::OneOf(values) => values.iter().enumerate().try_for_each(|(index, value)| {
                let bar = if index == 0 { "" } else { "|" };
                write!(f, "{bar}{value}")
            }),
        }
    }
}

impl fmt::Display for Spec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { container, encoding, rate, channels } = self;
        write!(f, "{container} {encoding} {rate} {channels}")
    }
}

crate::invalid::as_text!(Spec);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_come_back_as_they_went() {
        for line in [
            "wav pcm16 24000 mono",
            "ogg vorbis:q5 44100 stereo",
            "wav pcm8|imaadpcm 18900|9450 mono",
            "any any 48000 any",
            "raw pcm16be 8000 4ch",
        ] {
            assert_eq!(line.parse::<Spec>().unwrap().to_string(), line);
        }
    }

    #[test]
    fn rates_and_bits_are_read_as_people_say_them() {
        for (line, want) in [
            ("wav 16bit 44.1kHz mono", "wav pcm16 44100 mono"),
            ("wav 24-bit 44100Hz stereo", "wav pcm24 44100 stereo"),
            ("wav 8bit|16bit 8k|11.025khz mono", "wav pcm8|pcm16 8000|11025 mono"),
        ] {
            assert_eq!(line.parse::<Spec>().unwrap().to_string(), want);
        }
    }

    #[test]
    fn bad_lines_name_the_word() {
        for (line, part) in [
            ("wav pcm16 24000", "found 3 words"),
            ("wav", "found 1 word: put it in quotes"),
            ("wave pcm16 24000 mono", "\"wave\" is not a container"),
            ("wav pcm16|pcm12 24000 mono", "\"pcm12\" is not an encoding"),
            ("wav pcm16 999 mono", "\"999\" is not a sample rate"),
            ("wav pcm16 44.1 mono", "\"44.1\" is not a sample rate"),
            ("wav pcm16 48000 mono|", "\"\" is not a channel layout"),
        ] {
            let error = line.parse::<Spec>().unwrap_err().to_string();
            assert!(error.contains(part), "{line}: {error}");
        }
    }

    #[test]
    fn own_values_stay_where_they_are_accepted() {
        let own: Format = "wav f32 48000 stereo".parse().unwrap();
        let format = |line: &str| line.parse::<Spec>().unwrap().pick(own);
        for (line, want) in [
            ("any any any any", "wav f32 48000 stereo"),
            ("wav pcm8|f32 18900|48000 mono", "wav f32 48000 mono"),
            ("wav pcm8|pcm16 18900|9450 mono|stereo", "wav pcm8 18900 stereo"),
        ] {
            assert_eq!(format(line).to_string(), want);
        }
    }
}
