//! The settings, and where they are kept.

use crate::args::Config;
use crate::console::{BOLD, Console, FAINT, paint, safe};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::object;
use crate::paths::text;
use crate::settings::{self, Origin};
use crate::table::Table;

/// Prints every setting, or the path of the file.
pub fn run(args: &Config, console: &Console) -> Result<Exit, Failure> {
    let file = settings::file();
    let path = file.as_deref().map(text).unwrap_or_default();
    let exists = file.is_some_and(|file| file.is_file());
    let values = &console.settings().values;
    console.object(|| object::Settings { file: path.clone(), exists, settings: values });
    if args.path {
        console.find(safe(&path));
        return Ok(Exit::Done);
    }
    let note = if exists { "" } else { " (not there yet: every setting has its default)" };
    console.find(format!("{}{note}", paint(BOLD, safe(&path))));
    let mut rows = vec![["setting", "value", "from", ""].map(|cell| paint(FAINT, cell)).to_vec()];
    rows.extend(values.iter().map(|setting| {
        let from = match setting.from {
            Origin::Default => "default".to_owned(),
            Origin::File => "file".to_owned(),
            Origin::Environment => setting.variable.to_owned(),
        };
        let value = if setting.value.is_empty() { "-" } else { &setting.value };
        vec![setting.key.to_owned(), safe(value), from, setting.about.to_owned()]
    }));
    console.find(Table::new(rows, &[], &[]).text(console.room()));
    console.say(paint(FAINT, "A line of the file looks like this: threads = 2"));
    Ok(Exit::Done)
}
