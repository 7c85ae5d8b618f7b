//! Headers byte by byte, as the formats print them; walked here by hand, with none of our readers.

use crate::bench::{made, signal};

const FRAMES: u32 = 30_001;

fn file(line: &str, frames: u32) -> Vec<u8> {
    made(line, signal(line.parse().unwrap(), frames as usize))
}

fn be32(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap())
}

fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
}

#[test]
fn small_files_are_known_to_the_last_byte() {
    let three = vec![vec![0.0, 0.5, -1.0]];
    let rate = b"\x40\x0B\xFA\0\0\0\0\0\0\0";
    let aiff = [
        &b"FORM\0\0\0\x34AIFFCOMM\0\0\0\x12\0\x01\0\0\0\x03\0\x10"[..],
        rate,
        b"SSND\0\0\0\x0E\0\0\0\0\0\0\0\0\0\0\x40\0\x80\0",
    ]
    .concat();
    let aifc = [
        &b"FORM\0\0\0\x4CAIFCFVER\0\0\0\x04\xA2\x80\x51\x40COMM\0\0\0\x20\0\x01\0\0\0\x03\0\x10"[..],
        rate,
        b"alaw\x08ALaw 2:1\0SSND\0\0\0\x0B\0\0\0\0\0\0\0\0\xD5\xA5\x2A\0",
    ]
    .concat();
    let mulaw =
        b"RIFF\x36\0\0\0WAVEfmt \x12\0\0\0\x07\0\x01\0\x40\x1F\0\0\x40\x1F\0\0\x01\0\x08\0\0\0\
                  fact\x04\0\0\0\x03\0\0\0data\x03\0\0\0\xFF\x8F\x00\0";
    for (line, want) in [
        ("aiff pcm16 8000 mono", aiff),
        ("aifc alaw 8000 mono", aifc),
        ("wav mulaw 8000 mono", mulaw.to_vec()),
        ("raw pcm16be 8000 mono", b"\0\0\x40\0\x80\0".to_vec()),
        ("raw pcm8 8000 mono", b"\x80\xC0\0".to_vec()),
    ] {
        let found = made(line, three.clone());
        let (found_text, want_text) = (found.escape_ascii(), want.escape_ascii());
        assert!(found == want, "{line}:\n{found_text}\n{want_text}");
    }
}

/// RFC 3533 page by page, with a check sum worked out bit by bit.
#[test]
fn ogg_pages() {
    let file = file("ogg vorbis 44100 stereo", FRAMES);
    let sum = |bytes: &[u8]| {
        bytes.iter().fold(0u32, |sum, byte| {
            (0..8).fold(sum ^ u32::from(*byte) << 24, |sum, _| {
                sum << 1 ^ if sum >> 31 == 0 { 0 } else { 0x04C1_1DB7 }
            })
        })
    };
    let (mut at, mut pages) = (0, Vec::new());
    while at < file.len() {
        assert_eq!(&file[at..at + 5], b"OggS\0");
        let segments = usize::from(file[at + 26]);
        let body: usize = file[at + 27..at + 27 + segments].iter().map(|l| usize::from(*l)).sum();
        let mut page = file[at..at + 27 + segments + body].to_vec();
        let stated = le32(&page, 22);
        page[22..26].fill(0);
        assert_eq!(sum(&page), stated);
        at += page.len();
        pages.push(page);
    }
    let granule = |page: &[u8]| u64::from_le_bytes(page[6..14].try_into().unwrap());
    let flags: Vec<u8> = pages.iter().map(|page| page[5]).collect();
    assert_eq!((flags[0], flags.last()), (2, Some(&4)));
    assert!(flags[1..flags.len() - 1].iter().all(|f| *f <= 1), "{flags:?}");
    for (number, page) in (0..).zip(&pages) {
        assert_eq!((le32(page, 14), le32(page, 18)), (1, number));
    }
    assert!(pages[0][28..].starts_with(b"\x01vorbis") && pages[0].len() == 58);
    assert!(pages[1][27 + usize::from(pages[1][26])..].starts_with(b"\x03vorbis"));
    // Header pages stand at 0, sound begins on a page of its own, positions never fall.
    let positions: Vec<u64> = pages.iter().map(|page| granule(page)).collect();
    assert_eq!(positions[..2], [0, 0]);
    let sound: Vec<u64> = positions.into_iter().filter(|p| *p != u64::MAX).collect();
    assert!(sound.windows(2).all(|w| w[0] <= w[1]));
    assert_eq!(sound.last(), Some(&u64::from(FRAMES)));
}

/// The contents of a box at the end of a path.
fn within<'a>(mut bytes: &'a [u8], path: &[&[u8; 4]]) -> &'a [u8] {
    for kind in path {
        let mut rest = bytes;
        bytes = loop {
            let length = be32(rest, 0) as usize;
            if &rest[4..8] == *kind {
                break &rest[8..length];
            }
            rest = &rest[length..];
        };
    }
    bytes
}

/// ISO/IEC 14496-12: the description first, an edit list that hides the delay, offsets that hit.
#[test]
fn mp4_boxes() {
    for (line, packet, delay, codec) in [
        ("m4a aac 44100 stereo", 1024, 2048, b"mp4a"),
        ("m4a alac16 44100 stereo", 4096, 0, b"alac"),
    ] {
        let file = file(line, FRAMES);
        let order: Vec<&[u8]> = {
            let (mut at, mut all) = (0, Vec::new());
            while at < file.len() {
                all.push(&file[at + 4..at + 8]);
                at += be32(&file, at) as usize;
            }
            all
        };
        assert_eq!(order, [b"ftyp", b"moov", b"mdat"], "{line}");
        let data = within(&file, &[b"mdat"]);
        let trak = within(&file, &[b"moov", b"trak"]);
        let stbl = within(trak, &[b"mdia", b"minf", b"stbl"]);
        let elst = within(trak, &[b"edts", b"elst"]);
        assert_eq!([be32(elst, 4), be32(elst, 8), be32(elst, 12)], [1, FRAMES, delay]);
        assert_eq!(be32(within(trak, &[b"mdia", b"mdhd"]), 12), 44_100);
        assert_eq!(&within(stbl, &[b"stsd"])[12..16], codec);
        let stsz = within(stbl, &[b"stsz"]);
        let packets = be32(stsz, 8);
        assert_eq!(packets, (FRAMES + delay).div_ceil(packet));
        let sizes: Vec<u32> = (0..packets as usize).map(|n| be32(stsz, 12 + 4 * n)).collect();
        assert_eq!(sizes.iter().sum::<u32>() as usize, data.len());
        let stco = within(stbl, &[b"stco"]);
        assert_eq!(be32(stco, 8) as usize, file.len() - data.len());
        let stts = within(stbl, &[b"stts"]);
        let coded: u32 = (0..be32(stts, 4) as usize)
            .map(|n| be32(stts, 8 + 8 * n) * be32(stts, 12 + 8 * n))
            .sum();
        let whole = if delay > 0 { packets * packet } else { FRAMES };
        assert_eq!((coded, be32(within(trak, &[b"mdia", b"mdhd"]), 16)), (whole, whole));
        // Players that know no edit lists are told in a text; where there is no delay there is none.
        let text = format!(" 00000000 {delay:08X} {:08X} {FRAMES:016X}", whole - delay - FRAMES);
        let told = file.windows(text.len()).any(|w| w == text.as_bytes());
        assert_eq!(told, delay > 0, "{line}");
    }
}

/// RFC 9639, 8.2: STREAMINFO, with the check sum of the samples by the same crate that players use.
#[test]
fn flac_stream_info() {
    use md5::{Digest as _, Md5};
    let file = file("flac flac16 44100 stereo", FRAMES);
    assert_eq!(&file[..8], b"fLaC\x80\0\0\x22");
    assert_eq!(&file[8..12], [0x10, 0, 0x10, 0]);
    let packed = u64::from_be_bytes(file[18..26].try_into().unwrap());
    assert_eq!(packed, 44_100 << 44 | 1 << 41 | 15 << 36 | u64::from(FRAMES));
    let plain = self::file("raw pcm16le 44100 stereo", FRAMES);
    assert_eq!(file[26..42], Md5::digest(&plain)[..]);
    // The first frame: sync, 4,096 frames of 44,100 Hz, number 0.
    assert_eq!(file[42..45], [0xFF, 0xF8, 0xC9]);
    assert_eq!(file[46], 0);
    assert!(file.len() < plain.len());
}

#[test]
fn qoa_and_adpcm_heads() {
    let qoa = file("qoa qoa 44100 stereo", FRAMES);
    assert_eq!(&qoa[..8], [b"qoaf", &FRAMES.to_be_bytes()[..]].concat());
    // Two channels of 44,100 Hz, 5,120 frames in 8 + 32 + 256 · 16 bytes.
    assert_eq!(&qoa[8..16], b"\x02\0\xAC\x44\x14\0\x10\x28");
    assert_eq!(qoa.len(), 8 + 5 * 4136 + 8 + 32 + 16 * (30_001 - 5 * 5120usize).div_ceil(20));
    let twice = file("qoa qoa 44100 stereo", FRAMES);
    assert_eq!(qoa, twice);
}
