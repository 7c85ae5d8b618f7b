//! What a stand-in plays, as a 16-bit mono WAV for people to hear.

/// The bytes of the file.
pub fn wave(rate: u32, samples: &[i16]) -> Vec<u8> {
    let data = u32::try_from(samples.len() * 2).unwrap_or(u32::MAX);
    let mut file = Vec::with_capacity(samples.len() * 2 + 44);
    file.extend_from_slice(b"RIFF");
    file.extend_from_slice(&data.saturating_add(36).to_le_bytes());
    file.extend_from_slice(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    file.extend_from_slice(&rate.to_le_bytes());
    file.extend_from_slice(&(rate * 2).to_le_bytes());
    file.extend_from_slice(b"\x02\0\x10\0data");
    file.extend_from_slice(&data.to_le_bytes());
    for sample in samples {
        file.extend_from_slice(&sample.to_le_bytes());
    }
    file
}
