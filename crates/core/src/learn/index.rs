//! Stock under hashed names: an index that tells the real name of each file, and where the file lies.

use crate::limits;
use crate::names::folder_of;
use crate::stock::Stock;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, HashMap};
use std::path::Path;

/// An index of real names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Index {
    /// The file that it is.
    pub file: String,
    /// Where in it the names are (RFC 6901).
    pub pointer: String,
    /// Where the stock of a name lies, as a template over what stands beside the name.
    pub stock: String,
    /// The names, each with where its stock lies.
    pub names: BTreeMap<String, String>,
}

/// A name that looks like a hash has so many digits.
const HASH_DIGITS: usize = 16;
/// Folders of hashed files are named after so many of their first digits at most.
const PREFIX: usize = 4;

/// Finds the index of a folder whose files are named by hashes.
pub fn find(stock: &Stock) -> Option<Index> {
    let folder = stock.folder()?;
    let names = stock.names().ok()?;
    let mut hashed: HashMap<&str, &str> = HashMap::new();
    for name in &names {
        let file = name.rsplit('/').next().unwrap_or(name);
        let stem = file.split('.').next().unwrap_or(file);
        if stem.len() >= HASH_DIGITS && stem.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            hashed.insert(stem, name);
        }
    }
    if hashed.is_empty() {
        return None;
    }
    let documents = names.iter().filter(|name| name.to_lowercase().ends_with(".json"));
    let found = documents.filter_map(|name| {
        let bytes = crate::disk::read_input(&folder.join(name), limits::LIST).ok()?;
        let document: Value = serde_json::from_slice(&bytes).ok()?;
        let mut best = None;
        search(&document, &mut Vec::new(), &hashed, &mut best);
        best.map(|index: Index| Index { file: name.clone(), ..index })
    });
    found.max_by_key(|index| index.names.len())
}

/// Looks at every object of a document.
fn search(
    value: &Value,
    path: &mut Vec<String>,
    hashed: &HashMap<&str, &str>,
    best: &mut Option<Index>,
) {
    let Value::Object(members) = value else {
        return;
    };
    if let Some(index) = as_index(members, path, hashed)
        && best.as_ref().is_none_or(|best| best.names.len() < index.names.len())
    {
        *best = Some(index);
    }
    if path.len() < limits::DEPTH {
        for (key, member) in members {
            path.push(key.replace('~', "~0").replace('/', "~1"));
            search(member, path, hashed, best);
            path.pop();
        }
    }
}

/// An object whose members name hashed files in one of their fields.
fn as_index(
    members: &Map<String, Value>,
    path: &[String],
    hashed: &HashMap<&str, &str>,
) -> Option<Index> {
    let fields = members.values().next()?.as_object()?;
    let text = |member: &Value, field: &str| Some(member.get(field)?.as_str()?.to_owned());
    for field in fields.keys() {
        let file_of = |member: &Value| hashed.get(text(member, field)?.as_str()).copied();
        let there: Vec<(&String, &Value, &str)> = members
            .iter()
            .filter_map(|(name, member)| Some((name, member, file_of(member)?)))
            .collect();
        // Some of its files may not have been fetched.
        let enough = there.len() * 4 >= members.len() * 3;
        let Some((_, first, place)) = there.first().filter(|_| enough) else {
            continue;
        };
        let stock = template(place, &text(first, field)?, field);
        let fits = |member: &Value, place: &str| {
            text(member, field).is_some_and(|hash| template(place, &hash, field) == stock)
        };
        if there.iter().all(|(_, member, place)| fits(member, place)) {
            let names = there.iter().map(|(name, _, place)| ((*name).clone(), (*place).to_owned()));
            let pointer = path.iter().map(|step| format!("/{step}")).collect();
            return Some(Index { file: String::new(), pointer, stock, names: names.collect() });
        }
    }
    None
}

/// A hashed file's place with the hash taken out: `objects/{hash|first 2}/{hash}`.
fn template(place: &str, hash: &str, field: &str) -> String {
    let folders = folder_of(place).split('/').filter(|folder| !folder.is_empty());
    let mut parts: Vec<String> = folders
        .map(|folder| match hash.starts_with(folder) && folder.len() <= PREFIX {
            true => format!("{{{field}|first {}}}", folder.len()),
            false => folder.to_owned(),
        })
        .collect();
    let file = Path::new(place).file_name().unwrap_or_default().to_string_lossy();
    parts.push(file.replacen(hash, &format!("{{{field}}}"), 1));
    parts.join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_index_tells_names_and_places() {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str, text: &str| {
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        let hashes = ["ab12ab12ab12ab12", "cd34cd34cd34cd34"];
        for hash in hashes {
            put(&format!("store/{}/{hash}.bin", &hash[..2]), "x");
        }
        let entry = |hash| format!("{{\"size\": 1, \"hash\": \"{hash}\"}}");
        let [a, b] = hashes.map(entry);
        put(
            "lists/4.json",
            &format!("{{\"v\": 1, \"all/of\": {{\"s/x.ogg\": {a}, \"s/y.ogg\": {b}}}}}"),
        );
        put("other.json", "{\"a\": {\"hash\": \"nothing here\"}}");
        let found = find(&Stock::open(folder.path()).unwrap()).unwrap();
        assert_eq!(found.file, "lists/4.json");
        assert_eq!(found.pointer, "/all~1of");
        assert_eq!(found.stock, "store/{hash|first 2}/{hash}.bin");
        assert_eq!(found.names["s/y.ogg"], "store/cd/cd34cd34cd34cd34.bin");
        put("lists/4.json", "{}");
        assert_eq!(find(&Stock::open(folder.path()).unwrap()), None);
    }
}
