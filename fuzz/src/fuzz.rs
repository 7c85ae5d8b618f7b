//! One target, named by `DEFT_NEEDLE_TARGET`, beneath the fuzzer.
#![no_main]

use deft_needle_fuzz::{Target, target};
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static TARGET: LazyLock<Target> = LazyLock::new(|| {
    let name = std::env::var("DEFT_NEEDLE_TARGET").unwrap_or_default();
    target(&name).unwrap_or_else(|| panic!("DEFT_NEEDLE_TARGET names no target: {name:?}"))
});

fuzz_target!(|bytes: &[u8]| TARGET(bytes));
