//! The fewest patterns for folders and extensions.

use crate::sheet::pattern::literal;

/// A folder and an extension.
pub type Cell<'a> = (&'a str, &'a str);

/// Where a name belongs.
pub fn cell_of(name: &str) -> Cell<'_> {
    let (folder, file) = name.rsplit_once('/').unwrap_or(("", name));
    (folder, file.rsplit_once('.').map_or("", |(_, e)| e))
}

/// The fewest patterns that cover cells and touch none of other kinds. Cells without an extension may have none: what
/// holds them holds all of their folder. Those are added to `rest`.
pub fn cover<'a>(
    cells: &[Cell<'a>],
    kinds: &[usize],
    all: &[(Cell<'_>, Vec<usize>)],
    rest: &mut Vec<(Cell<'a>, Vec<usize>)>,
) -> Vec<String> {
    let mut open: Vec<Cell<'a>> = cells.to_vec();
    let mut patterns = Vec::new();
    while let Some(&first) = open.first() {
        let fits =
            |area: &Area<'_>| all.iter().all(|(cell, own)| *own == kinds || !area.holds(cell));
        let best = areas(&first)
            .into_iter()
            .filter(|area| area.holds(&first) && fits(area))
            .rev()
            .max_by_key(|area| open.iter().filter(|cell| area.holds(cell)).count());
        match best {
            Some(best) => {
                open.retain(|cell| !best.holds(cell));
                patterns.push(best.pattern());
            }
            None => {
                open.retain(|cell| *cell != first);
                rest.push((first, kinds.to_vec()));
            }
        }
    }
    patterns
}

/// Some cells.
struct Area<'a> {
    folder: &'a str,
    deep: bool,
    extension: Option<&'a str>,
}

impl Area<'_> {
    fn holds(&self, (folder, extension): &Cell<'_>) -> bool {
        let below = self.folder.is_empty()
            || folder.strip_prefix(self.folder).is_some_and(|rest| rest.starts_with('/'));
        (*folder == self.folder || (self.deep && below))
            && self.extension.is_none_or(|own| own == *extension)
    }

    fn pattern(&self) -> String {
        let slash = if self.folder.is_empty() { "" } else { "/" };
        let folder = literal(self.folder);
        match (self.deep, self.extension) {
            (true, None) => format!("{folder}{slash}**"),
            (false, None) => format!("{folder}{slash}*"),
            (true, Some(e)) => format!("{folder}{slash}**/*.{}", literal(e)),
            (false, Some(e)) => format!("{folder}{slash}*.{}", literal(e)),
        }
    }
}

/// The areas around a cell, of those that hold as many the first preferred: narrow folders before wide
/// ones, plain patterns before those with an extension, but for the root.
fn areas<'a>(&(folder, extension): &Cell<'a>) -> Vec<Area<'a>> {
    let mut all = Vec::new();
    let above = folder.match_indices('/').map(|(at, _)| &folder[..at]);
    let mut folders: Vec<&str> = std::iter::once("").chain(above).collect();
    if !folder.is_empty() {
        folders.push(folder);
    }
    let own = (!extension.is_empty()).then_some(extension);
    for folder in folders.into_iter().rev() {
        let plain = [(true, None), (false, None)];
        let named = [(true, own), (false, own)];
        // A root holds more than sounds: there, extensions come first.
        let both = match folder {
            "" => [named, plain],
            _ => [plain, named],
        };
        for (deep, extension) in both.concat() {
            all.push(Area { folder, deep, extension });
        }
    }
    all
}
