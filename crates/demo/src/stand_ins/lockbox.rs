//! A closed sound format of an invented game, and the encoder that its makers hand out: strict about
//! what it is fed, and the only one that knows what is inside.

/// What every file of it begins with.
pub const MARK: &[u8; 4] = b"LBX1";

/// Turns a WAV into a lockbox. It takes 16-bit stereo of 48,000 Hz with a header of the plainest kind,
/// and nothing beside the samples.
///
/// # Errors
/// What it does not like, in words.
pub fn encode(wav: &[u8]) -> Result<Vec<u8>, String> {
    const HEAD: &[u8] = b"WAVEfmt \x10\0\0\0\x01\0\x02\0\x80\xBB\0\0\0\xEE\x02\0\x04\0\x10\0data";
    if wav.get(8..40) != Some(HEAD) {
        return Err(
            "lockbox: want 16-bit stereo WAV of 48000 Hz, plain header, no other chunks".to_owned()
        );
    }
    let samples = wav.get(44..).unwrap_or_default();
    let mut last = 0u8;
    let locked = samples.iter().map(|byte| {
        let locked = byte.wrapping_sub(last) ^ 0x5A;
        last = *byte;
        locked
    });
    let frames = u32::try_from(samples.len() / 4).unwrap_or(u32::MAX);
    let mut file = MARK.to_vec();
    file.extend_from_slice(&frames.to_le_bytes());
    file.extend(locked);
    Ok(file)
}

/// What the game says when it loads such a file.
pub fn load(file: &[u8]) -> String {
    let stated = file.get(4..8).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes);
    let held = u32::try_from(file.len().saturating_sub(8) / 4).unwrap_or(u32::MAX);
    match stated {
        _ if !file.starts_with(MARK) => "is not a lockbox: silence".to_owned(),
        Some(frames) if frames == held => {
            format!("opens, and plays {:.3} s", f64::from(frames) / 48_000.0)
        }
        _ => "is broken: silence".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn takes_only_what_it_wants() {
        assert!(encode(b"RIFF").is_err());
        assert_eq!(load(b"LBX1\x01\0\0\0abcd"), "opens, and plays 0.000 s");
        assert!(load(b"LBX1\x02\0\0\0abcd").contains("broken"));
        assert!(load(b"RIFF").contains("not a lockbox"));
    }
}
