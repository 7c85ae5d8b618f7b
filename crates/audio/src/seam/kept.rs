//! A clip kept as it was decoded, where decoding it once more costs more than reading it back.

use crate::block::Block;
use crate::num::{count, single, size};
use crate::spec::{Facts, Kind};
use crate::units::FrameRange;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};

/// Bytes at most; of a longer clip nothing is kept.
const MOST: u64 = 1 << 29;
/// Bytes of a sample: decoders of lossy encodings give no more.
const SAMPLE: u64 = 4;

/// Frames in a nameless file, sample by sample; or nothing.
#[derive(Debug, Default)]
pub struct Kept {
    file: Option<File>,
    bytes: Vec<u8>,
}

impl Kept {
    /// Room for a lossy clip; for any other, and where there is no room, none.
    pub fn of(facts: &Facts) -> Self {
        let format = &facts.format;
        let bytes =
            facts.frames.saturating_mul(format.channels.count().into()).saturating_mul(SAMPLE);
        let keeps = format.encoding.codec.kind() == Kind::Lossy && bytes <= MOST;
        let file = keeps.then(|| tempfile::tempfile().ok()).flatten();
        Self { file, bytes: Vec::new() }
    }

    /// Keeps what comes next; where that fails, nothing stays kept.
    pub fn keep(&mut self, block: &Block) {
        let Some(file) = &mut self.file else { return };
        self.bytes.clear();
        for frame in 0..block.frames() {
            for channel in block.channels() {
                self.bytes.extend_from_slice(&single(channel[frame]).to_le_bytes());
            }
        }
        if file.write_all(&self.bytes).is_err() {
            self.file = None;
        }
    }

    /// The frames of each range, in their order; `None` where nothing is kept.
    pub fn windows(&mut self, channels: usize, ranges: &[FrameRange]) -> Option<Vec<Block>> {
        let file = self.file.as_mut()?;
        ranges.iter().map(|range| read(file, channels, *range).ok()).collect()
    }
}

fn read(file: &mut File, channels: usize, range: FrameRange) -> io::Result<Block> {
    let frame = count(channels) * SAMPLE;
    let mut bytes = vec![0; size(range.len() * frame)];
    file.seek(SeekFrom::Start(range.start * frame))?;
    file.read_exact(&mut bytes)?;
    let mut samples = bytes.as_chunks().0.iter().map(|bytes| f64::from(f32::from_le_bytes(*bytes)));
    let mut sides = vec![Vec::with_capacity(size(range.len())); channels];
    for _ in 0..range.len() {
        sides.iter_mut().for_each(|side| side.extend(samples.next()));
    }
    Ok(Block::from_channels(sides))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(line: &str, frames: u64) -> Facts {
        Facts { frames, ..Facts::new(line.parse().unwrap(), 0) }
    }

    #[test]
    fn comes_back_as_it_was() {
        let mut kept = Kept::of(&facts("ogg vorbis 8000 stereo", 300));
        let side = |from: u32| (from..from + 100).map(|n| f64::from(n) / 1024.0).collect();
        for block in 0..3u32 {
            kept.keep(&Block::from_channels(vec![side(100 * block), side(1000 + 100 * block)]));
        }
        let range = |start, end| FrameRange { start, end };
        let found = kept.windows(2, &[range(250, 300), range(0, 1), range(90, 110)]).unwrap();
        let first = |at: usize| [found[at].channels()[0][0], found[at].channels()[1][0]];
        assert_eq!(found.iter().map(Block::frames).collect::<Vec<_>>(), [50, 1, 20]);
        assert_eq!(first(0), [250.0 / 1024.0, 1250.0 / 1024.0]);
        assert_eq!(first(2), [90.0 / 1024.0, 1090.0 / 1024.0]);
        // A file that held less than it said is read again.
        assert!(kept.windows(2, &[range(290, 310)]).is_none());
    }

    #[test]
    fn is_nothing_where_reading_is_cheap_or_the_clip_is_long() {
        for (line, frames) in [("wav pcm16 8000 mono", 300), ("ogg vorbis 8000 stereo", 1 << 27)] {
            let mut kept = Kept::of(&facts(line, frames));
            kept.keep(&Block::from_channels(vec![vec![0.0; 10]; 2]));
            assert!(kept.windows(2, &[FrameRange { start: 0, end: 5 }]).is_none(), "{line}");
        }
    }
}
