//! Matroska and WebM, by what follows its first bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::read(b"\x1A\x45\xDF\xA3", bytes, &Default::default()));
