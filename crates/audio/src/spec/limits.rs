//! What encodings cannot carry, and the nearest that they can.

use super::{Codec, Encoding, Format, Quality};

/// The rates of AAC (ISO/IEC 14496-3, table 1.18, without the odd one).
pub const AAC_RATES: [u32; 12] =
    [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 64_000, 88_200, 96_000];

/// Why a format cannot be encoded, and what could; `None` where it can.
pub fn limit(format: Format) -> Option<(String, String)> {
    let Format { encoding: Encoding { codec, quality, .. }, rate, channels, .. } = format;
    let (hertz, count) = (rate.hertz(), channels.count());
    let word = codec.facts().word;
    let most_channels = match codec {
        Codec::ImaAdpcm | Codec::Aac | Codec::Alac16 | Codec::Alac24 | Codec::Mp3 => 2,
        Codec::Vorbis | Codec::Flac16 | Codec::Flac24 | Codec::Qoa => 8,
        _ => u16::MAX,
    };
    if count > most_channels {
        return Some((
            format!(
                "{word} is written with {most_channels} channels at most, and this has {count}"
            ),
            format!("ask for {most_channels} channels or fewer, or choose them with --route"),
        ));
    }
    if codec == Codec::Aac && !AAC_RATES.contains(&hertz) {
        let near = AAC_RATES.iter().min_by_key(|r| r.abs_diff(hertz)).copied().unwrap_or(48_000);
        return Some((
            format!("AAC has no sample rate of {hertz} Hz"),
            format!("ask for {near} Hz, the nearest that it has"),
        ));
    }
    let most_rate = match codec {
        Codec::Flac16 | Codec::Flac24 => 655_350,
        Codec::Vorbis => 200_000,
        _ => u32::MAX,
    };
    if hertz > most_rate {
        return Some((
            format!("{word} is written up to {most_rate} Hz, and this has {hertz}"),
            "ask for a lower rate".to_owned(),
        ));
    }
    let scale = match codec {
        Codec::Vorbis => -10..=100,
        _ => 10..=50,
    };
    match (codec, quality) {
        (Codec::Vorbis | Codec::Aac, Some(Quality::Scale(tenths))) if !scale.contains(&tenths) => {
            Some((
                format!("{word} has no quality {encoding}", encoding = format.encoding),
                match codec {
                    Codec::Vorbis => "its scale goes from q-1 to q10".to_owned(),
                    _ => "its scale goes from q1 to q5; or state a bit rate, as in aac:128k"
                        .to_owned(),
                },
            ))
        }
        (Codec::Aac, Some(Quality::Scale(tenths))) if tenths % 10 != 0 => Some((
            "aac has whole qualities only".to_owned(),
            "its scale goes from q1 to q5; or state a bit rate, as in aac:128k".to_owned(),
        )),
        (Codec::Aac, Some(Quality::BitRate(kilobits))) => {
            // A packet of 1,024 frames takes 6,144 bits a channel at most.
            let most = 6 * hertz * u32::from(count) / 1000;
            let band = 8 * u32::from(count)..=most.min(512);
            let near = u32::from(kilobits).clamp(*band.start(), *band.end());
            (near != u32::from(kilobits)).then(|| {
                (
                    format!(
                        "AAC of {hertz} Hz and {count} channels has no bit rate of {kilobits}k"
                    ),
                    format!("ask for aac:{near}k, the nearest that it has"),
                )
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
        for (line, part) in [
            ("m4a aac 37800 mono", "32000 Hz"),
            ("m4a aac:500k 8000 mono", "aac:48k"),
            ("m4a aac:q9 44100 mono", "q1 to q5"),
            ("ogg vorbis:q11 44100 mono", "q-1 to q10"),
            ("wav imaadpcm 22050 4ch", "--route"),
            ("ogg vorbis 384000 mono", "lower"),
        ] {
            let (_, instead) = limit(line.parse().unwrap()).unwrap();
            assert!(instead.contains(part), "{line}: {instead}");
        }
        for line in ["m4a aac:128k 44100 stereo", "ogg vorbis:q-1 37800 7.1", "wav mulaw 8000 32ch"]
        {
            assert_eq!(limit(line.parse().unwrap()), None, "{line}");
        }
    }
}
