//! The log of a ledger in a shared folder, looked at, opened, restored and rescued.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| deft_needle_fuzz::core::ledger(bytes));
