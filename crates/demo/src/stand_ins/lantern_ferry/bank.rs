//! Where the game's files come from: its own folder, a folder of additions, an archive of them.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};

/// A bank.
pub struct Bank {
    /// Its name.
    pub name: String,
    files: Files,
}

enum Files {
    Folder(PathBuf),
    Archive(BTreeMap<String, Vec<u8>>),
}

impl Bank {
    /// Opens one; `None` where nothing is there.
    ///
    /// # Errors
    /// Why an archive is not accepted.
    pub fn open(game: &Path, name: &str) -> Result<Option<Self>, String> {
        let bank = |files| Ok(Some(Self { name: name.to_owned(), files }));
        if name == "BASE" {
            return bank(Files::Folder(game.to_owned()));
        }
        let folder = game.join("berths").join(name);
        if folder.is_dir() {
            return bank(Files::Folder(folder));
        }
        let Ok(archive) = fs::File::open(game.join("berths").join(format!("{name}.ferry"))) else {
            return Ok(None);
        };
        let files = unpack(archive)?;
        judge_manifest(&files)?;
        bank(Files::Archive(files))
    }

    /// One of its files.
    pub fn read(&self, name: &str) -> Option<Vec<u8>> {
        match &self.files {
            Files::Archive(files) => files.get(name).cloned(),
            Files::Folder(folder) => {
                let path = name.split('/').fold(folder.clone(), |path, part| path.join(part));
                fs::read(path).ok()
            }
        }
    }

    /// The files that its cues play, and how long they say that those last, in milliseconds.
    ///
    /// # Errors
    /// A list that cannot be read.
    pub fn cues(&self) -> Result<BTreeMap<String, u64>, String> {
        let list = match &self.files {
            Files::Folder(_) => self.read("cues.json").map(|list| {
                super::super::strict_json::read(&String::from_utf8_lossy(&list))
                    .map_err(|error| format!("cues.json cannot be read: {error}"))
            }),
            Files::Archive(_) => self.read("waybill.toml").map(|list| {
                toml::from_str::<serde_json::Value>(&String::from_utf8_lossy(&list))
                    .map_err(|_| "waybill.toml cannot be read".to_owned())
            }),
        };
        let list = list.transpose()?.unwrap_or_default();
        let cues = list["cues"].as_object().into_iter().flat_map(|cues| cues.values());
        let cue = |cue: &serde_json::Value| {
            Some((cue["plays"].as_str()?.to_owned(), cue["millis"].as_u64()?))
        };
        Ok(cues.filter_map(cue).collect())
    }

    /// The names of its files.
    pub fn names(&self) -> Vec<String> {
        match &self.files {
            Files::Archive(files) => files.keys().cloned().collect(),
            Files::Folder(folder) => {
                let mut names = Vec::new();
                walk(folder, "", &mut names);
                names
            }
        }
    }
}

fn walk(folder: &Path, above: &str, names: &mut Vec<String>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let whole = format!("{above}{name}");
        let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
        match is_folder {
            // Additions are banks of their own.
            true if name.starts_with('.') || whole == "berths" => {}
            true => walk(&entry.path(), &format!("{whole}/"), names),
            false => names.push(whole),
        }
    }
}

fn unpack(archive: fs::File) -> Result<BTreeMap<String, Vec<u8>>, String> {
    let mut zip = zip::ZipArchive::new(archive).map_err(|error| error.to_string())?;
    let mut files = BTreeMap::new();
    for index in 0..zip.len() {
        let mut file = zip.by_index(index).map_err(|error| error.to_string())?;
        let name = file.name().map_err(|error| error.to_string())?.into_owned();
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).map_err(|error| error.to_string())?;
        files.insert(name, bytes);
    }
    Ok(files)
}

/// The manifest names the game, has an identifier of its own, and lists what is inside.
fn judge_manifest(files: &BTreeMap<String, Vec<u8>>) -> Result<(), String> {
    let manifest = files.get("waybill.toml").ok_or("it has no waybill.toml")?;
    let manifest = String::from_utf8_lossy(manifest);
    let manifest: toml::Table = manifest.parse().map_err(|_| "its waybill.toml is wrong")?;
    let text = |key: &str| manifest.get(key).and_then(toml::Value::as_str).unwrap_or_default();
    if text("for") != "Lantern Ferry" {
        return Err("its waybill.toml is for another game".to_owned());
    }
    let id = text("id");
    let sound = id.len() == 36 && id.bytes().all(|b| b.is_ascii_hexdigit() || b == b'-');
    if !sound {
        return Err(format!("its identifier \"{id}\" is none"));
    }
    let cargo = manifest.get("cargo").and_then(toml::Value::as_array);
    let cargo = cargo.ok_or("its waybill.toml has no cargo")?;
    let lost = cargo.iter().filter_map(toml::Value::as_str).find(|name| !files.contains_key(*name));
    match lost {
        None => Ok(()),
        Some(lost) => Err(format!("{lost} is on its waybill and not inside")),
    }
}
