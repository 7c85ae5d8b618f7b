//! Lists of names, as `learn` writes them and as targets have them.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::core::list(bytes));
