//! x
use crate::args::Demo;
use crate::console::Console;
use crate::exit::Exit;
use crate::failure::Failure;
pub fn run(_args: &Demo, _c: &Console) -> Result<Exit, Failure> {
    Ok(Exit::Done)
}
