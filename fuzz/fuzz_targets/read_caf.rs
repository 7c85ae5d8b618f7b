//! CAF, by what follows its first bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::read(b"caff\0\x01\0\0", bytes, &Default::default()));
