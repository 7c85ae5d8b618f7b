//! Check sums of the containers; their check values are tested against the published ones.

use crc::{Algorithm, Crc, Table};

/// Ogg pages (RFC 3533, 6): polynomial 0x04C11DB7, nothing reflected, nothing inverted.
const OGG_PAGE: Algorithm<u32> = Algorithm {
    width: 32,
    poly: 0x04C1_1DB7,
    init: 0,
    refin: false,
    refout: false,
    xorout: 0,
    check: 0x89A1_897F,
    residue: 0,
};

/// Of Ogg pages.
pub const OGG: Crc<u32, Table<16>> = Crc::<u32, Table<16>>::new(&OGG_PAGE);
/// Of FLAC frame headers (RFC 9639, 9.1.8).
pub const FLAC_HEADER: Crc<u8> = Crc::<u8>::new(&crc::CRC_8_SMBUS);
/// Of FLAC frames (RFC 9639, 9.3).
pub const FLAC_FRAME: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&crc::CRC_16_UMTS);

/// Of the info frame of MP3 and of what it describes.
pub const MP3: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&crc::CRC_16_ARC);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_published_check_values() {
        let text = b"123456789";
        assert_eq!(OGG.checksum(text), OGG_PAGE.check);
        assert_eq!(FLAC_HEADER.checksum(text), 0xF4);
        assert_eq!(MP3.checksum(text), 0xBB3D);
        assert_eq!(FLAC_FRAME.checksum(text), 0xFEE8);
    }
}
