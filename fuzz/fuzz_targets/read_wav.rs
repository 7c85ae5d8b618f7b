//! Any bytes behind a WAV's first twelve: a clip or an error, and every frame that it promises.
#![no_main]

use deft_needle_audio::observe::Unobserved;
use deft_needle_audio::survey::{Ask, survey};
use deft_needle_audio::{Clip, read::Input};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let file = [b"RIFF\xFF\xFF\xFF\xFFWAVE", bytes].concat();
    let Ok(input) = Input::spool(&mut file.as_slice(), "fuzz") else {
        return;
    };
    if let Ok(clip) = Clip::from_input(input) {
        assert!(clip.facts().audio_bytes <= file.len() as u64);
        let found = survey(&clip, Ask::default(), &Unobserved).expect("promised frames are there");
        assert_eq!(found.frames, clip.facts().frames);
    }
});
