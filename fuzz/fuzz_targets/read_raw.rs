//! Samples without a header.
#![no_main]

use deft_needle_audio::read::Hints;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let raw = "raw pcm24be 24000 5.1".parse().ok();
    deft_needle_fuzz::read(b"", bytes, &Hints { raw, ..Hints::default() });
});
