//! The museum's guide, as far as it walks through a tour: it looks into its additions first, and refuses a tour
//! whose lists do not fit together.

use serde_json::Value;
use std::fs;
use std::path::Path;

/// Walks through the tour; gives its stops with what they are called, or what the guide does not like.
///
/// # Errors
/// What the screen of the guide would say.
pub fn walk(root: &Path, additions: &str) -> Result<Vec<String>, String> {
    let own = |name: &str| {
        let added = root.join(additions).join(name);
        if added.exists() { added } else { root.join(name) }
    };
    let read =
        |name: &str| fs::read_to_string(own(name)).map_err(|error| format!("{name}: {error}"));
    let json = |name: &str| -> Result<Value, String> {
        serde_json::from_str(&read(name)?).map_err(|error| format!("{name}: {error}"))
    };
    let tour = json("tour.json")?;
    let texts = |key: &str| -> Vec<String> {
        let list = tour[key].as_array().into_iter().flatten();
        list.filter_map(|text| text.as_str().map(str::to_owned)).collect()
    };
    let (titles, stops) = (texts("titles"), texts("stops"));
    if titles.len() != stops.len() {
        return Err(format!("tour.json: {} titles for {} stops", titles.len(), stops.len()));
    }
    let (rooms, way) = (json("names/7.json")?, read("way.def")?);
    let mut heard = Vec::new();
    for (title, stop) in titles.iter().zip(&stops) {
        let file = stop.rsplit('/').next().unwrap_or(stop);
        let stem = file.trim_end_matches(".ogg");
        if !title.eq_ignore_ascii_case(stem) {
            return Err(format!("tour.json: {title} leads to {stop}"));
        }
        let added = root.join(additions).join(stop).is_file();
        if !added && rooms["rooms"].get(stop).is_none() {
            return Err(format!("{stop} is nowhere"));
        }
        if added && json(&format!("cards/{stem}.json"))?["title"] != title.as_str() {
            return Err(format!("the card of {stem} has another title"));
        }
        if !way.contains(&format!("stop \"{stem}\" {{")) {
            return Err(format!("way.def leads past {stem}"));
        }
        heard.push(title.clone());
    }
    Ok(heard)
}
