//! The museum's guide, as far as it walks through a tour: it looks into its additions first, and refuses a tour
//! whose lists do not fit together, data that says a thing twice, a script that it cannot follow to its end, and
//! sounds that its small decoder does not take.

use super::strict_json;
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use vorbis_rs::VorbisDecoder;

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
        strict_json::read(&read(name)?).map_err(|error| format!("{name}: {error}"))
    };
    let tour = json("tour.json")?;
    let texts = |key: &str| -> Result<Vec<String>, String> {
        let list = tour[key].as_array().ok_or(format!("tour.json: {key} is no list"))?;
        let text = |value: &Value| value.as_str().map(str::to_owned);
        let all: Option<Vec<String>> = list.iter().map(text).collect();
        all.ok_or(format!("tour.json: {key} holds what is no text"))
    };
    let (titles, stops) = (texts("titles")?, texts("stops")?);
    if titles.len() != stops.len() {
        return Err(format!("tour.json: {} titles for {} stops", titles.len(), stops.len()));
    }
    let rooms = json("names/7.json")?;
    let way = way(&read("way.def")?).map_err(|error| format!("way.def: {error}"))?;
    let mut heard = Vec::new();
    for (title, stop) in titles.iter().zip(&stops) {
        let file = stop.rsplit('/').next().unwrap_or(stop);
        let stem = file.trim_end_matches(".ogg");
        if !title.eq_ignore_ascii_case(stem) {
            return Err(format!("tour.json: {title} leads to {stop}"));
        }
        let added = root.join(additions).join(stop);
        let sound = match (added.is_file(), rooms["rooms"][stop]["hash"].as_str()) {
            (true, _) => added,
            (false, Some(hash)) => root.join("store").join(hash.get(..2).unwrap_or("")).join(hash),
            (false, None) => return Err(format!("{stop} is nowhere")),
        };
        plays(&sound).map_err(|error| format!("{stop}: {error}"))?;
        let is_new = rooms["rooms"].get(stop).is_none();
        if is_new && json(&format!("cards/{stem}.json"))?["title"] != title.as_str() {
            return Err(format!("the card of {stem} has another title"));
        }
        let Some(hears) = way.get(stem) else {
            return Err(format!("way.def leads past {stem}"));
        };
        if hears.as_ref().is_some_and(|hears| hears != stop) {
            return Err(format!("way.def: {stem} is to hear {}", hears.as_deref().unwrap_or("")));
        }
        heard.push(title.clone());
    }
    Ok(heard)
}

/// The stops of the script, and what each is to hear where that is told. It knows comments, blocks of
/// `stop "NAME" {` to `}`, and `hear "SLOT"` within; the last stop is the exit.
fn way(text: &str) -> Result<BTreeMap<String, Option<String>>, String> {
    let mut stops = BTreeMap::new();
    let mut open: Option<(String, Option<String>)> = None;
    let mut last = String::new();
    let quoted = |rest: &str| {
        let inner = rest.strip_prefix('"')?.strip_suffix('"')?;
        (!inner.is_empty() && !inner.contains('"')).then(|| inner.to_owned())
    };
    for (number, line) in (1..).zip(text.lines()) {
        let line = line.trim();
        let wrong = || format!("line {number} is not understood: {line}");
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        match (&mut open, line) {
            (None, line) => {
                let name = line.strip_prefix("stop ").and_then(|rest| rest.strip_suffix(" {"));
                open = Some((name.and_then(quoted).ok_or_else(wrong)?, None));
            }
            (Some(_), "}") => {
                let (name, hears) = open.take().unwrap_or_default();
                last.clone_from(&name);
                if stops.insert(name, hears).is_some() {
                    return Err(format!("{last} is there twice"));
                }
            }
            (Some((_, hears)), line) => {
                let told = line.strip_prefix("hear ").and_then(quoted).ok_or_else(wrong)?;
                if hears.replace(told).is_some() {
                    return Err(wrong());
                }
            }
        }
    }
    match (open, last.as_str()) {
        (Some((name, _)), _) => Err(format!("{name} has no end")),
        (None, "exit") => Ok(stops),
        (None, _) => Err("nobody finds the exit".to_owned()),
    }
}

/// A sound is Vorbis, 44100 Hz mono, to its end.
fn plays(path: &Path) -> Result<(), String> {
    let bytes = fs::read(path).map_err(|error| error.to_string())?;
    let mut decoder =
        VorbisDecoder::<&[u8]>::new(bytes.as_slice()).map_err(|error| error.to_string())?;
    let form = (decoder.sampling_frequency().get(), decoder.channels().get());
    if form != (44_100, 1) {
        return Err(format!("{} Hz, {} channels", form.0, form.1));
    }
    let mut frames = 0;
    while let Some(block) = decoder.decode_audio_block().map_err(|error| error.to_string())? {
        frames += block.samples().first().map_or(0, |channel| channel.len());
    }
    if frames == 0 { Err("it is empty".to_owned()) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::num::{NonZeroU8, NonZeroU32};
    use vorbis_rs::VorbisEncoderBuilder;

    fn sound(rate: u32, channels: u8) -> Vec<u8> {
        let (rate, channels) = (NonZeroU32::new(rate).unwrap(), NonZeroU8::new(channels).unwrap());
        let mut bytes = Vec::new();
        let mut encoder =
            VorbisEncoderBuilder::new_with_serial(rate, channels, &mut bytes, 7).build().unwrap();
        let block = vec![vec![0.1f32; 4_410]; usize::from(channels.get())];
        encoder.encode_audio_block(block).unwrap();
        encoder.finish().unwrap();
        bytes
    }

    const TOUR: &str =
        r#"{ "titles": ["Bell", "Horn"], "stops": ["hall/bell.ogg", "tower/horn.ogg"] }"#;
    const ROOMS: &str = r#"{ "rooms": { "hall/bell.ogg": { "hash": "ab12", "size": 1 } } }"#;
    const WAY: &str = "# the way\nstop \"bell\" {\n}\nstop \"horn\" {\n    hear \"tower/horn.ogg\"\n}\nstop \"exit\" {\n}\n";

    /// A guide with one stop of its own and one that was added; `change` is what one file holds instead.
    fn walked(change: Option<(&str, Vec<u8>)>) -> Result<Vec<String>, String> {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str, bytes: &[u8]| {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, bytes).unwrap();
        };
        for (name, text) in [
            ("tour.json", "{}"),
            ("way.def", ""),
            ("names/7.json", ROOMS),
            ("mine/tour.json", TOUR),
            ("mine/way.def", WAY),
            ("mine/cards/horn.json", r#"{ "title": "Horn" }"#),
        ] {
            put(name, text.as_bytes());
        }
        put("store/ab/ab12", &sound(44_100, 1));
        put("mine/tower/horn.ogg", &sound(44_100, 1));
        if let Some((name, bytes)) = change {
            put(name, &bytes);
        }
        walk(folder.path(), "mine")
    }

    #[test]
    fn a_whole_tour_is_walked_and_nothing_else() {
        assert_eq!(walked(None), Ok(vec!["Bell".to_owned(), "Horn".to_owned()]));
        let text = |name: &'static str, text: &str| (name, text.as_bytes().to_vec());
        let tour = |from: &str, to: &str| text("mine/tour.json", &TOUR.replace(from, to));
        let way = |from: &str, to: &str| text("mine/way.def", &WAY.replace(from, to));
        for (change, why) in [
            (tour(r#", "Horn""#, ""), "1 titles for 2 stops"),
            (tour(r#""Bell", "Horn""#, r#""Horn", "Bell""#), "Horn leads to hall/bell.ogg"),
            (tour(r#""Horn"]"#, r#""Horn",]"#), "trailing comma"),
            (tour(r#"{ "titles""#, r#"{ "stops": [], "titles""#), "\"stops\" is there twice"),
            (tour(r#""Horn""#, "7"), "titles holds what is no text"),
            (tour(r#""Bell""#, "\"Be\u{7}ll\""), "control character"),
            (way("stop \"horn\" {", "stop \"horn\""), "line 4 is not understood"),
            (way("tower/horn.ogg", "tower/harp.ogg"), "horn is to hear tower/harp.ogg"),
            (way("    hear \"tower/horn.ogg\"\n}\n", ""), "line 5 is not understood"),
            (way("stop \"horn\"", "stop \"bell\""), "bell is there twice"),
            (way("stop \"exit\" {\n}\n", ""), "nobody finds the exit"),
            (way("stop \"exit\" {\n}\n", "stop \"exit\" {\n"), "exit has no end"),
            (way("bell", "ball"), "leads past bell"),
            (text("mine/cards/horn.json", r#"{ "title": "Harp" }"#), "has another title"),
            (text("mine/cards/horn.json", "{ title: Horn }"), "cards/horn.json: key must be"),
            (text("mine/tower/horn.ogg", "RIFF"), "tower/horn.ogg"),
            (("mine/tower/horn.ogg", sound(44_100, 2)), "44100 Hz, 2 channels"),
            (("store/ab/ab12", sound(48_000, 1)), "hall/bell.ogg: 48000 Hz"),
        ] {
            let (name, bytes) = change;
            let said = walked(Some((name, bytes.clone())));
            let shown = String::from_utf8_lossy(&bytes).into_owned();
            assert!(said.as_ref().is_err_and(|said| said.contains(why)), "{shown}: {said:?}");
        }
    }
}
