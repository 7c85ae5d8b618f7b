//! Entries in json files: made, and taken back to the same bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::core::entry(bytes, deft_needle_core::entry::Format::Json, "/a/-"));
