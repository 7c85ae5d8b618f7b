//! The boxes of an MP4 file with one sound track (ISO/IEC 14496-12; 14496-14; "QuickTime File Format").

use crate::clip::Tag;
use crate::num::{count, count32};
use crate::read::mp4::boxes::{boxes, find};

/// All that the description of the track says.
#[derive(Debug)]
pub struct Movie<'a> {
    /// Frames a second, and the clock of film and track.
    pub rate: u32,
    /// Frames that are played.
    pub frames: u64,
    /// Frames before the first that is played.
    pub delay: u64,
    /// Frames of a packet, and of the last one.
    pub packet_frames: u32,
    /// The frames of all packets.
    pub coded_frames: u64,
    /// Bytes of each packet.
    pub sizes: &'a [u32],
    /// Packets in a chunk.
    pub in_chunk: u32,
    /// The contents of `stsd`.
    pub description: &'a [u8],
    /// Texts.
    pub tags: &'a [Tag],
    /// The `udta` box that comes along instead of texts.
    pub user: Option<&'a [u8]>,
    /// Whether players that know no edit lists are told of the delay in a text.
    pub gapless: bool,
}

/// A box with its head.
pub fn boxed(kind: &[u8; 4], contents: &[u8]) -> Vec<u8> {
    let mut bytes = count32(8 + contents.len()).to_be_bytes().to_vec();
    bytes.extend_from_slice(kind);
    bytes.extend_from_slice(contents);
    bytes
}

/// A box with version and flags.
pub fn full(kind: &[u8; 4], version_and_flags: u32, contents: &[u8]) -> Vec<u8> {
    boxed(kind, &[&version_and_flags.to_be_bytes(), contents].concat())
}

fn words(all: &[u32]) -> Vec<u8> {
    all.iter().flat_map(|word| word.to_be_bytes()).collect()
}

/// 14496-12, 4.3: an audio file, of the first version.
pub fn ftyp() -> Vec<u8> {
    boxed(b"ftyp", b"M4A \0\0\0\0M4A mp42isom")
}

/// The name of the text that tells delay and length.
const GAPLESS: &[u8] = b"iTunSMPB";

/// `meta` around an item list ("QuickTime File Format", metadata).
fn metadata(items: &[u8]) -> Vec<u8> {
    let hdlr = [words(&[0]), b"mdirappl".to_vec(), words(&[0, 0]), vec![0]].concat();
    full(b"meta", 0, &[full(b"hdlr", 0, &hdlr), boxed(b"ilst", items)].concat())
}

/// The unity matrix (14496-12, 8.2.2).
const MATRIX: [u32; 9] = [0x1_0000, 0, 0, 0, 0x1_0000, 0, 0, 0, 0x4000_0000];
/// No language stated: `und` (14496-12, 8.4.2).
const UNDETERMINED: u32 = 0x55C4_0000;

impl Movie<'_> {
    /// `moov`, whose chunks begin at `first`. Its length does not depend on `first` or on the sizes.
    pub fn moov(&self, first: u64) -> Vec<u8> {
        let wide = self.frames.max(self.coded_frames) > u64::from(u32::MAX);
        let version = u32::from(wide) << 24;
        let time = |value: u64| match wide {
            true => value.to_be_bytes().to_vec(),
            false => u32::try_from(value).unwrap_or(u32::MAX).to_be_bytes().to_vec(),
        };
        let times =
            |rest: &[u8], length: u64| [time(0), time(0), rest.to_vec(), time(length)].concat();
        let rate = self.rate.to_be_bytes();
        let mvhd = [
            times(&rate, self.frames),
            words(&[0x1_0000, 0x100_0000, 0, 0]),
            words(&MATRIX),
            words(&[0; 6]),
            words(&[2]),
        ]
        .concat();
        // Enabled, in the film, in the preview; the first track, at full volume.
        let tkhd = [
            times(&words(&[1, 0]), self.frames),
            words(&[0, 0, 0, 0x100_0000]),
            words(&MATRIX),
            words(&[0, 0]),
        ]
        .concat();
        let mdhd = [times(&rate, self.coded_frames), words(&[UNDETERMINED])].concat();
        let edit = [words(&[1]), time(self.frames), time(self.delay), words(&[0x1_0000])].concat();
        let hdlr = [words(&[0]), b"soun".to_vec(), words(&[0, 0, 0]), vec![0]].concat();
        let dref = [words(&[1]), full(b"url ", 1, &[])].concat();
        let minf = [
            full(b"smhd", 0, &words(&[0])),
            boxed(b"dinf", &full(b"dref", 0, &dref)),
            boxed(b"stbl", &self.tables(first)),
        ]
        .concat();
        let mdia = [full(b"mdhd", version, &mdhd), full(b"hdlr", 0, &hdlr), boxed(b"minf", &minf)]
            .concat();
        let trak = [
            full(b"tkhd", version | 7, &tkhd),
            boxed(b"edts", &full(b"elst", version, &edit)),
            boxed(b"mdia", &mdia),
        ]
        .concat();
        let user = match self.user {
            Some(contents) => boxed(b"udta", &self.renewed(contents)),
            None => self.texts(),
        };
        let all = [full(b"mvhd", version, &mvhd), boxed(b"trak", &trak), user].concat();
        boxed(b"moov", &all)
    }

    /// 14496-12, 8.5 to 8.7.
    fn tables(&self, first: u64) -> Vec<u8> {
        let packets = count32(self.sizes.len());
        let whole = self.coded_frames / u64::from(self.packet_frames.max(1));
        let last =
            u32::try_from(self.coded_frames % u64::from(self.packet_frames.max(1))).unwrap_or(0);
        let whole = u32::try_from(whole).unwrap_or(u32::MAX);
        let mut lengths = Vec::new();
        if whole > 0 {
            lengths.extend([whole, self.packet_frames]);
        }
        if last > 0 {
            lengths.extend([1, last]);
        }
        let runs = count32(lengths.len() / 2);
        let stts = [words(&[runs]), words(&lengths)].concat();
        let chunks = packets / self.in_chunk;
        let rest = packets % self.in_chunk;
        let mut in_chunks = Vec::new();
        if chunks > 0 {
            in_chunks.extend([1, self.in_chunk, 1]);
        }
        if rest > 0 {
            in_chunks.extend([chunks + 1, rest, 1]);
        }
        let stsc = [words(&[count32(in_chunks.len() / 3)]), words(&in_chunks)].concat();
        let stsz = [words(&[0, packets]), words(self.sizes)].concat();
        let mut offsets = Vec::new();
        let mut at = first;
        for chunk in self.sizes.chunks(crate::num::size(self.in_chunk.into())) {
            offsets.push(at);
            at += chunk.iter().map(|bytes| u64::from(*bytes)).sum::<u64>();
        }
        let number = words(&[count32(offsets.len())]);
        let places = match self.small() {
            true => {
                let stco: Vec<u32> =
                    offsets.iter().map(|o| u32::try_from(*o).unwrap_or(0)).collect();
                full(b"stco", 0, &[number, words(&stco)].concat())
            }
            false => {
                let co64: Vec<u8> =
                    offsets.iter().flat_map(|offset| offset.to_be_bytes()).collect();
                full(b"co64", 0, &[number, co64].concat())
            }
        };
        [
            boxed(b"stsd", self.description),
            full(b"stts", 0, &stts),
            full(b"stsc", 0, &stsc),
            full(b"stsz", 0, &stsz),
            places,
        ]
        .concat()
    }

    /// Whether no packets of this number could reach beyond 32 bits. Their true sizes must not decide:
    /// the length of the description has to be known before them.
    fn small(&self) -> bool {
        const LARGEST_PACKET: u64 = 1 << 16;
        count(self.sizes.len()) * LARGEST_PACKET < 1 << 31
    }

    /// Item list ("QuickTime File Format", metadata); empty where there is nothing to say.
    fn texts(&self) -> Vec<u8> {
        let mut items = Vec::new();
        for tag in self.tags {
            if let Some(names) = tag.names() {
                let data = [words(&[1, 0]), tag.value.clone().into_bytes()].concat();
                items.extend(boxed(names.mp4, &boxed(b"data", &data)));
            }
        }
        items.extend(self.gapless_item());
        if items.is_empty() {
            return Vec::new();
        }
        boxed(b"udta", &metadata(&items))
    }

    /// What players go by that know no edit lists; nothing where it is not wanted.
    fn gapless_item(&self) -> Vec<u8> {
        if !self.gapless {
            return Vec::new();
        }
        let behind = self.coded_frames.saturating_sub(self.delay + self.frames);
        let mut text = format!(" 00000000 {:08X} {behind:08X} {:016X}", self.delay, self.frames);
        text.push_str(&" 00000000".repeat(8));
        let item = [
            full(b"mean", 0, b"com.apple.iTunes"),
            full(b"name", 0, GAPLESS),
            boxed(b"data", &[words(&[1, 0]), text.into_bytes()].concat()),
        ]
        .concat();
        boxed(b"----", &item)
    }

    /// What comes along, without what it says of another file's delay.
    fn renewed(&self, user: &[u8]) -> Vec<u8> {
        let mut renewed = Vec::new();
        let mut told = false;
        for part in boxes(user) {
            let contents = match (&part.kind, told) {
                (b"meta", false) => {
                    told = true;
                    self.renewed_meta(part.contents)
                }
                _ => part.contents.to_vec(),
            };
            renewed.extend(boxed(&part.kind, &contents));
        }
        let item = self.gapless_item();
        if !told && !item.is_empty() {
            renewed.extend(metadata(&item));
        }
        renewed
    }

    /// The same of its item list.
    fn renewed_meta(&self, meta: &[u8]) -> Vec<u8> {
        // A full box in MP4, none in QuickTime.
        let (head, inner) = match find(meta, b"hdlr") {
            Some(_) => (&[][..], meta),
            None => meta.split_at(meta.len().min(4)),
        };
        let mut all = head.to_vec();
        let mut items = Vec::new();
        for part in boxes(inner) {
            if &part.kind != b"ilst" {
                all.extend(boxed(&part.kind, part.contents));
                continue;
            }
            for item in boxes(part.contents) {
                let name = find(item.contents, b"name").and_then(|name| name.get(4..));
                if name != Some(GAPLESS) {
                    items.extend(boxed(&item.kind, item.contents));
                }
            }
        }
        items.extend(self.gapless_item());
        all.extend(boxed(b"ilst", &items));
        all
    }
}
