//! Numbers and texts in bytes of a header.

fn field<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at.checked_add(N)?)?.try_into().ok()
}

/// A big-endian 16-bit number at `at`.
pub fn be16(bytes: &[u8], at: usize) -> Option<u16> {
    field(bytes, at).map(u16::from_be_bytes)
}

/// A big-endian 32-bit number at `at`.
pub fn be32(bytes: &[u8], at: usize) -> Option<u32> {
    field(bytes, at).map(u32::from_be_bytes)
}

/// A big-endian 64-bit number at `at`.
pub fn be64(bytes: &[u8], at: usize) -> Option<u64> {
    field(bytes, at).map(u64::from_be_bytes)
}

/// A little-endian 16-bit number at `at`.
pub fn le16(bytes: &[u8], at: usize) -> Option<u16> {
    field(bytes, at).map(u16::from_le_bytes)
}

/// A little-endian 32-bit number at `at`.
pub fn le32(bytes: &[u8], at: usize) -> Option<u32> {
    field(bytes, at).map(u32::from_le_bytes)
}

/// A little-endian 64-bit number at `at`.
pub fn le64(bytes: &[u8], at: usize) -> Option<u64> {
    field(bytes, at).map(u64::from_le_bytes)
}

/// Four letters at `at`.
pub fn four(bytes: &[u8], at: usize) -> Option<[u8; 4]> {
    field(bytes, at)
}

/// Text of a header: UTF-8, else Latin-1, up to the first NUL, without the spaces around it.
pub fn text(bytes: &[u8]) -> String {
    let bytes = bytes.split(|&b| b == 0).next().unwrap_or_default();
    let text = match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) => bytes.iter().copied().map(char::from).collect(),
    };
    text.trim().to_owned()
}
