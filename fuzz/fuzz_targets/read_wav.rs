//! RIFF WAVE, by what follows its first bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::read(b"RIFF\xFF\xFF\xFF\xFFWAVE", bytes, &Default::default()));
