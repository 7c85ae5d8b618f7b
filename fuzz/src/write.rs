//! What every writer must stand: any samples, of any rate that is met, in files that the readers take back whole.

use deft_needle_audio::Clip;
use deft_needle_audio::block::{Samples, collect};
use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::read::{Hints, Input};
use deft_needle_audio::render::render_source;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::spec::{Container, Format, Output};
use std::io::Cursor;

/// Samples that one file is made of at most: more show nothing new.
const MOST: usize = 8192;

/// Every line that is tried; which, the first byte says.
const LINES: &[&str] = &[
    "wav imaadpcm 22050 stereo",
    "wav msadpcm 11025 stereo",
    "wav gsm 8000 mono",
    "rf64 f32 44100 5.1",
    "w64 gsm 8000 mono",
    "aiff pcm24 48000 stereo",
    "aifc imaadpcm 22050 stereo",
    "au g722 16000 mono",
    "au g726-24 8000 mono",
    "au g726-40 8000 mono",
    "raw gsm 8000 mono",
    "raw g726-16 8000 mono",
    "raw g726-32 8000 mono",
    "caf imaadpcm 44100 mono",
    "caf alac16 44100 5.1",
    "caf alac24 48000 stereo",
    "m4a alac24 96000 7.1",
    "flac flac16 44100 stereo",
    "flac flac24 48000 5.1",
    "ogg flac16 22050 mono",
    "qoa qoa 44100 stereo",
    "mp3 mp3:128k 44100 stereo",
    "mp3 mp3:~64k 22050 mono",
    "mp3 mp3:q5 8000 stereo",
    "ogg vorbis:q3 44100 stereo",
    "ogg opus:~64k 48000 stereo",
];

/// A file of any samples, read back to as many frames as it should hold.
pub fn write(bytes: &[u8]) {
    let Some((which, rest)) = bytes.split_first() else { return };
    let line = LINES[usize::from(*which) % LINES.len()];
    let format: Format = line.parse().unwrap();
    let channels = usize::from(format.channels.count());
    let values: Vec<f64> = rest
        .chunks_exact(2)
        .take(MOST)
        .map(|two| f64::from(i16::from_le_bytes([two[0], two[1]])) / 32_768.0)
        .collect();
    let unit = format.whole_frames() as usize;
    let frames = (values.len() / channels).next_multiple_of(unit);
    // A file without a frame is none that anybody could want.
    if frames == 0 {
        return;
    }
    let at = |frame: usize, channel: usize| values.get(frame * channels + channel).copied();
    let planes = (0..channels)
        .map(|channel| (0..frames).map(|frame| at(frame, channel).unwrap_or(0.0)).collect());
    let source = Samples::new(format.rate, planes.collect());
    let mut output = Output::plain(format, frames as u64);
    output.block_bytes = matches!(line.split(' ').nth(1), Some("msadpcm"))
        .then_some(512)
        .or_else(|| line.starts_with("wav imaadpcm").then_some(1024));
    let mut made = Cursor::new(Vec::new());
    render_source(source, &output, Dither::None, &mut made, &Unobserved)
        .unwrap_or_else(|error| panic!("{line}, {frames} frames: {error}"));
    let input = Input::spool(&mut made.get_ref().as_slice(), "made").unwrap();
    let raw = (format.container == Container::Raw).then_some(format);
    let clip = Clip::from_input(input, &Hints { raw, ..Hints::default() })
        .unwrap_or_else(|error| panic!("{line}, {frames} frames: {error}"));
    assert_eq!(clip.facts().frames, frames as u64, "{line}");
    let back = collect(&mut *clip.frames().unwrap()).unwrap();
    assert!(back.iter().all(|channel| channel.len() == frames), "{line}, {frames} frames");
}
