//! The demo, told on the console.

use crate::console::Console;
use crate::exit::Exit;
use crate::failure::Failure;
use deft_needle_demo::{Demo, Screen};

impl Screen for Console {
    fn say(&self, text: &str) {
        Self::say(self, text);
    }

    fn warn(&self, text: &str) {
        Self::warn(self, text);
    }

    fn is_silent(&self) -> bool {
        self.json() || self.quiet()
    }
}

/// Plays it.
pub fn run(args: &Demo, console: &Console) -> Result<Exit, Failure> {
    let played = deft_needle_demo::run(args, console)?;
    console.object(|| &played);
    Ok(if played.as_expected { Exit::Done } else { Exit::Short })
}
