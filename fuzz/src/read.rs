//! What every reader must stand: any bytes after the first ones of its format.

use deft_needle_audio::Clip;
use deft_needle_audio::block::{Block, Source};
use deft_needle_audio::read::{Hints, Input};

/// Blocks that are decoded of one file; more show nothing new.
const MOST_BLOCKS: u32 = 400;

/// A clip or an error, and no more frames than are promised.
pub fn read(mark: &[u8], bytes: &[u8]) {
    read_with(mark, bytes, &Hints::default());
}

/// The same, of samples without a header that are said to be this.
pub fn raw(line: &str, bytes: &[u8]) {
    let raw = line.parse().ok();
    read_with(b"", bytes, &Hints { raw, ..Hints::default() });
}

fn read_with(mark: &[u8], bytes: &[u8], hints: &Hints) {
    let file = [mark, bytes].concat();
    let Ok(input) = Input::spool(&mut file.as_slice(), "fuzz") else { return };
    let Ok(clip) = Clip::from_input(input, hints) else { return };
    assert!(clip.facts().audio_bytes <= file.len() as u64);
    let Ok(mut frames) = clip.frames() else { return };
    let (mut block, mut come) = (Block::new(frames.channels()), 0);
    for _ in 0..MOST_BLOCKS {
        if frames.next(&mut block).is_err() || block.is_empty() {
            break;
        }
        come += block.frames() as u64;
        assert!(come <= clip.facts().frames);
    }
}
