//! What encodings cannot carry, and the nearest that they can.

use super::{Codec, Encoding, Format, Quality};
use crate::unmet::Unmet;

/// The rates of AAC (ISO/IEC 14496-3, table 1.18, without the odd one).
pub const AAC_RATES: [u32; 12] =
    [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000];

/// The rates of Layer III (ISO/IEC 11172-3 and 13818-3, 2.4.2.3, and the lower ones halved once more).
pub const MP3_RATES: [u32; 9] =
    [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000];

/// The bit rates of Layer III in kbit/s at a rate (ISO/IEC 11172-3 and 13818-3, 2.4.2.3).
pub const fn mp3_bit_rates(hertz: u32) -> &'static [u16; 14] {
    match hertz {
        32_000.. => &[32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320],
        _ => &[8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160],
    }
}

/// Why a format cannot be encoded, and what could; `None` where it can.
pub fn limit(format: Format) -> Option<Unmet> {
    let Format { encoding: Encoding { codec, quality, .. }, rate, channels, .. } = format;
    let (hertz, count) = (rate.hertz(), channels.count());
    let word = codec.facts().word;
    let most_channels = match codec {
        Codec::ImaAdpcm | Codec::MsAdpcm | Codec::Aac | Codec::Mp3 => 2,
        Codec::Gsm
        | Codec::G722
        | Codec::G726At16
        | Codec::G726At24
        | Codec::G726At32
        | Codec::G726At40 => 1,
        Codec::Vorbis
        | Codec::Opus
        | Codec::Alac16
        | Codec::Alac24
        | Codec::Flac16
        | Codec::Flac24
        | Codec::Qoa => 8,
        _ => u16::MAX,
    };
    let codec_word = || word.to_owned();
    // From six channels on one of Vorbis' places is for low frequencies alone.
    if codec == Codec::Vorbis && channels.layout().is_none() && (6..=8).contains(&count) {
        return Some(Unmet::NoPlainChannels { codec: codec_word(), channels: count });
    }
    if count > most_channels {
        let (codec, most) = (codec_word(), most_channels);
        return Some(Unmet::TooManyChannels { codec, most, channels: count });
    }
    let rates: &[u32] = match codec {
        Codec::Aac => &AAC_RATES,
        Codec::Mp3 => &MP3_RATES,
        Codec::Opus => &[48_000],
        Codec::G722 => &[16_000],
        _ => &[],
    };
    if !rates.is_empty() && !rates.contains(&hertz) {
        let near = rates.iter().min_by_key(|r| r.abs_diff(hertz)).copied();
        let nearest = near.unwrap_or(48_000);
        return Some(Unmet::RateUnknown { codec: codec_word(), hertz, nearest });
    }
    let most = match codec {
        Codec::Flac16 | Codec::Flac24 => 655_350,
        Codec::Vorbis => 200_000,
        _ => u32::MAX,
    };
    if hertz > most {
        return Some(Unmet::RateTooHigh { codec: codec_word(), hertz, most });
    }
    let (least, most) = match codec {
        Codec::Vorbis => (-1, 10),
        Codec::Mp3 | Codec::Opus => (0, 10),
        _ => (1, 5),
    };
    let outside =
        || Some(Unmet::QualityOutside { encoding: format.encoding.to_string(), least, most });
    match (codec, quality) {
        (Codec::Vorbis | Codec::Aac | Codec::Mp3 | Codec::Opus, Some(Quality::Scale(tenths)))
            if !(10 * least..=10 * most).contains(&i32::from(tenths)) =>
        {
            outside()
        }
        (Codec::Aac, Some(Quality::Scale(tenths))) if tenths % 10 != 0 => outside(),
        (Codec::Aac, Some(Quality::BitRate(kilobits))) => {
            // A packet of 1,024 frames takes 6,144 bits a channel at most.
            let most = 6 * hertz * u32::from(count) / 1000;
            let band = 8 * u32::from(count)..=most.min(512);
            let near = u32::from(kilobits).clamp(*band.start(), *band.end());
            let nearest = u16::try_from(near).ok();
            (near != u32::from(kilobits)).then(|| Unmet::BitRateOutside {
                codec: codec_word(),
                hertz,
                channels: count,
                kilobits,
                nearest,
            })
        }
        // RFC 6716, 2.1.1: 6 to 510 kbit/s a stream.
        (Codec::Opus, Some(Quality::BitRate(kilobits) | Quality::Average(kilobits))) => {
            let band = 6 * count..=256 * count;
            let nearest = Some(kilobits.clamp(*band.start(), *band.end()));
            (!band.contains(&kilobits)).then(|| Unmet::BitRateOutside {
                codec: codec_word(),
                hertz,
                channels: count,
                kilobits,
                nearest,
            })
        }
        (Codec::Mp3, Some(Quality::BitRate(kilobits) | Quality::Average(kilobits))) => {
            let rates = mp3_bit_rates(hertz);
            let average = matches!(quality, Some(Quality::Average(_)));
            let within = (rates[0]..=rates[13]).contains(&kilobits);
            let nearest = rates.iter().min_by_key(|rate| rate.abs_diff(kilobits)).copied();
            let fits = if average { within } else { rates.contains(&kilobits) };
            (!fits).then(|| Unmet::BitRateOutside {
                codec: codec_word(),
                hertz,
                channels: count,
                kilobits,
                nearest,
            })
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_is_told() {
        let of = |line: &str| limit(line.parse().unwrap()).unwrap();
        let aac = || "aac".to_owned();
        assert_eq!(
            of("m4a aac 37800 mono"),
            Unmet::RateUnknown { codec: aac(), hertz: 37_800, nearest: 32_000 }
        );
        assert_eq!(
            of("m4a aac:500k 8000 mono"),
            Unmet::BitRateOutside {
                codec: aac(),
                hertz: 8_000,
                channels: 1,
                kilobits: 500,
                nearest: Some(48),
            }
        );
        for (line, least, most) in [
            ("m4a aac:q9 44100 mono", 1, 5),
            ("m4a aac:q2.5 44100 mono", 1, 5),
            ("ogg vorbis:q11 44100 mono", -1, 10),
        ] {
            let Unmet::QualityOutside { least: a, most: b, .. } = of(line) else {
                panic!("{line}")
            };
            assert_eq!((a, b), (least, most), "{line}");
        }
        assert!(matches!(of("wav imaadpcm 22050 4ch"), Unmet::TooManyChannels { most: 2, .. }));
        assert!(matches!(of("ogg vorbis 384000 mono"), Unmet::RateTooHigh { most: 200_000, .. }));
        for line in ["m4a aac:128k 44100 stereo", "ogg vorbis:q-1 37800 7.1", "wav mulaw 8000 32ch"]
        {
            assert_eq!(limit(line.parse().unwrap()), None, "{line}");
        }
    }
}
