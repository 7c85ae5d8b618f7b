//! MP4 and QuickTime, by what follows its first bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::read(b"\0\0\0\x14ftypM4A \0\0\0\0M4A ", bytes, &Default::default()));
