//! Entries in every format: what is put in stands, every other byte stays, and undone it is as before.

use super::*;
use proptest::prelude::*;
use serde_json::json;

fn wanted(format: Format, at: &str, value: Value) -> NewEntry {
    NewEntry {
        format,
        at: at.to_owned(),
        value: Some(value),
        expect: None,
        separator: Some(";".to_owned()).filter(|_| format == Format::Ini),
        order: Order::End,
        ignore_case: false,
        put: Put::Instead,
    }
}

fn made(wanted: &NewEntry, text: &[u8]) -> (Vec<u8>, Done) {
    match wanted.make(text) {
        Ok(Made::New(bytes, done)) => (bytes, *done),
        other => panic!("{wanted:?} in {}: {other:?}", String::from_utf8_lossy(text)),
    }
}

const PLIST: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//X//DTD\" \"x.dtd\">\n<plist version=\"1.0\">\n<dict>\n  <!-- kept -->\n  <key>Show</key><string>A &amp; B</string>\n  <key>Cues</key>\n  <array><string>Bed</string></array>\n  <key>None</key>\n  <array/>\n</dict>\n</plist>\n";

#[test]
fn what_is_put_in_and_what_it_looks_like() {
    use Format::{Ini, Json, Lines, Plist, Table, Toml};
    for (format, text, at, value, want) in [
        // Set, in a new place and in an old one.
        (Json, "{\n  // cues\n  \"a\": { \"x\": 1 }, // one\n  \"z\": 2\n}\n", "/b", json!({"p": "s", "n": 3}),
            "{\n  // cues\n  \"a\": { \"x\": 1 }, // one\n  \"z\": 2,\n  \"b\": { \"p\": \"s\", \"n\": 3 }\n}\n"),
        (Json, "{\"a\":{\"x\":1}}", "/a/y", json!(true), "{\"a\":{\"x\":1, \"y\":true}}"),
        (Json, "{\n  \"a\": 1 // last\n}", "/b", json!("two"), "{\n  \"a\": 1, // last\n  \"b\": \"two\"\n}"),
        (Json, "{\r\n\t\"a\": [\r\n\t\t\"x\",\r\n\t],\r\n}\r\n", "/a/-", json!("y"),
            "{\r\n\t\"a\": [\r\n\t\t\"x\",\r\n\t\t\"y\",\r\n\t],\r\n}\r\n"),
        (Json, "{}", "/a/b", json!(1), "{ \"a\": { \"b\": 1 } }"),
        (Json, "{\n  \"a\": {}\n}", "/a/b", json!(1), "{\n  \"a\": {\n    \"b\": 1\n  }\n}"),
        (Json, "[]", "/-", json!("x"), "[\"x\"]"),
        (Json, "{\"a~/b\": 1}", "/a~0~1b", json!(2), "{\"a~/b\": 2}"),
        (Toml, "# top\na = 1 # one\n\n[mix]\nb = [\"x\", \"y\"] # two\n\n[zed]\n", "mix/c", json!("z"),
            "# top\na = 1 # one\n\n[mix]\nb = [\"x\", \"y\"] # two\nc = \"z\"\n\n[zed]\n"),
        (Toml, "a = 1\r\n[zed]\r\n", "zed/q", json!(2), "a = 1\r\n[zed]\r\nq = 2\r\n"),
        (Toml, "[mix]\nb = [\n  \"x\", # first\n]\n", "mix/b/-", json!("y"), "[mix]\nb = [\n  \"x\", # first\n  \"y\",\n]\n"),
        (Toml, "a = 1\n", "new/part/k", json!(true), "a = 1\n\n[new.part]\nk = true\n"),
        (Toml, "m.a = 1\n", "m/b", json!(2), "m.a = 1\nm.b = 2\n"),
        (Toml, "[s]\nx = 1\n", "top", json!(5), "top = 5\n[s]\nx = 1\n"),
        (Ini, "; top\r\n[Mixer]\r\nBanks=BASE;QUAY-1\r\n\r\n[Other]\r\nx=1\r\n", "Mixer/Banks", json!("+QUAY-7"),
            "; top\r\n[Mixer]\r\nBanks=BASE;QUAY-1;QUAY-7\r\n\r\n[Other]\r\nx=1\r\n"),
        (Ini, "[Mixer]\nA = 1\n\n[Other]\n", "Mixer/B", json!(2), "[Mixer]\nA = 1\nB = 2\n\n[Other]\n"),
        (Ini, "[A]\nx=1", "New/y", json!("z"), "[A]\nx=1\n[New]\ny=z"),
        (Ini, "[A]\nx=1", "a/X", json!("2"), "[A]\nx=2"),
        (Table, "slot\tsay\r\nA.PRM\ttick\r\n", "slot", json!({"slot": "B.PRM", "say": "tock"}),
            "slot\tsay\r\nA.PRM\ttick\r\nB.PRM\ttock\r\n"),
        (Table, "slot,say,n\nA,\"x, y\",1\n", "slot", json!({"slot": "A", "say": "z \"q\""}), "slot,say,n\nA,\"z \"\"q\"\"\",1\n"),
        (Lines, "tones\nbusy\nopen", "", json!("night"), "tones\nbusy\nopen\nnight"),
        (Plist, PLIST, "/Cues/-", json!("Dawn"), &PLIST.replace("<string>Bed</string>", "<string>Bed</string><string>Dawn</string>")),
        (Plist, PLIST, "/None/-", json!("x"), &PLIST.replace("<array/>", "<array><string>x</string></array>")),
        (Plist, PLIST, "/New", json!({"n": 5, "r": 0.5}), &PLIST.replace("  <array/>\n",
            "  <array/>\n  <key>New</key>\n  <dict><key>n</key><integer>5</integer><key>r</key><real>0.5</real></dict>\n")),
        (Plist, PLIST, "/Show", json!("C < D"), &PLIST.replace("A &amp; B", "C &lt; D")),
    ] {
        let (bytes, done) = made(&wanted(format, at, value.clone()), text.as_bytes());
        assert_eq!(String::from_utf8_lossy(&bytes), want, "{format:?} {at}");
        assert!(done.stands(&bytes), "{done}");
        // Once is enough.
        assert_eq!(wanted(format, at, value).make(&bytes), Ok(Made::Already), "{format:?} {at}");
        let undone = done.undo(&bytes).unwrap().unwrap();
        assert!(!done.stands(&undone), "{done}");
        let emptied = text.contains("{}") || text == "[]" || at.starts_with("new/") || at.starts_with("New/") || at == "/None/-";
        if !emptied {
            assert_eq!(String::from_utf8_lossy(&undone), text, "{format:?} {at}");
        }
    }
}

#[test]
fn lists_in_settings_keep_their_manner() {
    let add = |text: &str, item: &str| {
        let entry = NewEntry {
            separator: Some(", ".to_owned()),
            ignore_case: true,
            ..wanted(Format::Ini, "Banks", json!(format!("+{item}")))
        };
        match entry.make(text.as_bytes()) {
            Ok(Made::New(bytes, _)) => String::from_utf8(bytes).unwrap(),
            Ok(Made::Already) => "already".to_owned(),
            Err(what) => what,
        }
    };
    for (text, item, want) in [
        (
            "Banks = \"HILL\\, mill\\\"  ; note\n",
            "WEIR\\",
            "Banks = \"HILL\\, mill\\, WEIR\\\"  ; note\n",
        ),
        ("Banks = \"HILL\\, mill\\\"  ; note\n", "MILL\\", "already"),
        ("Banks=HILL\\,MILL\\\n", "MILL\\", "already"),
        ("Banks=HILL\\,MILL\\\n", "WEIR\\", "Banks=HILL\\,MILL\\,WEIR\\\n"),
        ("Banks=HILL  # all\n", "WEIR", "Banks=HILL, WEIR  # all\n"),
        ("Banks=\"HILL\n", "WEIR", "\"HILL has a quote without its other one"),
    ] {
        assert_eq!(add(text, item), want, "{text}");
    }
}

#[test]
fn where_members_go() {
    let json = b"{ \"names\": [\"a\", \"c\"], \"files\": [\"a.wav\", \"c.wav\"] }";
    let sorted = NewEntry { order: Order::Sorted, ..wanted(Format::Json, "/names/-", json!("b")) };
    let (json, _) = made(&sorted, json);
    let beside = |value: &str| NewEntry {
        order: Order::IndexOf { list: "/names".to_owned(), value: json!("b") },
        ..wanted(Format::Json, "/files/-", json!(value))
    };
    let (json, first) = made(&beside("b.wav"), &json);
    let text = String::from_utf8_lossy(&json).into_owned();
    assert_eq!(
        text,
        "{ \"names\": [\"a\", \"b\", \"c\"], \"files\": [\"a.wav\", \"b.wav\", \"c.wav\"] }"
    );
    let (other, second) = made(&beside("B.wav"), &json);
    assert_eq!(second.undo(&other).unwrap().unwrap(), json);
    assert!(first.stands(&json) && second.to_string().contains("/files/1"));
}

#[test]
fn only_our_own_entry_goes_when_others_have_written_since() {
    use Format::{Ini, Json, Lines, Toml};
    for (format, text, at, value, change, want) in [
        (
            Json,
            "{\n  \"a\": 1\n}",
            "/b",
            json!(2),
            ("\"b\": 2", "\"b\": 2,\n  \"c\": 3"),
            "{\n  \"a\": 1,\n  \"c\": 3\n}",
        ),
        (Json, "[\"x\"]", "/-", json!("y"), ("[\"x\"", "[\"w\", \"x\""), "[\"w\", \"x\"]"),
        (Ini, "[M]\nB=1;2\n", "M/B", json!("+3"), ("1;2;3", "1;3;4"), "[M]\nB=1;4\n"),
        (Toml, "[m]\na = 1\n", "m/a", json!(9), ("[m]", "[m] # mine"), "[m] # mine\na = 1\n"),
        (Lines, "a\n", "", json!("b"), ("b\n", "b\nc\n"), "a\nc\n"),
    ] {
        let (bytes, done) = made(&wanted(format, at, value), text.as_bytes());
        let text = String::from_utf8(bytes).unwrap();
        assert!(text.contains(change.0), "{text}");
        let edited = text.replacen(change.0, change.1, 1);
        let undone = done.undo(edited.as_bytes()).unwrap().unwrap();
        assert_eq!(String::from_utf8_lossy(&undone), want);
    }
    // Somebody else's value in our place stays.
    let (bytes, done) = made(&wanted(Format::Json, "/a", json!(2)), b"{\"a\": 1}");
    let theirs = String::from_utf8(bytes).unwrap().replace('2', "7");
    assert_eq!(done.undo(theirs.as_bytes()), Ok(None));
}

#[test]
fn expectations_only_compare() {
    let text = b"[Mixer]\r\nBanks=BASE;QUAY-7\r\nName=QUAY-7\r\n";
    let expect = |at: &str, value: &str| NewEntry {
        value: None,
        expect: Some(json!(value)),
        ..wanted(Format::Ini, at, json!(0))
    };
    assert_eq!(expect("Mixer/Name", "QUAY-7").make(text), Ok(Made::Already));
    assert_eq!(
        expect("Mixer/Name", "QUAY-1").make(text),
        Err("says QUAY-7, this job says QUAY-1".to_owned())
    );
    assert_eq!(expect("Mixer/Banks", "+BASE").make(text), Ok(Made::Already));
    assert!(expect("Mixer/Banks", "+X").make(text).is_err());
}

#[test]
fn binary_property_lists_and_utf_16() {
    let xml = Format::Plist.open(PLIST.as_bytes(), None).unwrap();
    let list = plist::Value::from_reader_xml(PLIST.as_bytes()).unwrap();
    let mut binary = Vec::new();
    list.to_writer_binary(&mut binary).unwrap();
    for (at, value) in [("/Cues/-", json!("Dawn")), ("/Show", json!("x")), ("/A/B", json!(7))] {
        let (bytes, done) = made(&wanted(Format::Plist, at, value), &binary);
        assert!(bytes.starts_with(plist_binary::MARK) && done.stands(&bytes));
        let undone = done.undo(&bytes).unwrap().unwrap();
        let back = plist::Value::from_reader(std::io::Cursor::new(undone)).unwrap();
        let show = back.as_dictionary().unwrap().get("Show").unwrap();
        assert_eq!(show.as_string(), xml.get("/Show").unwrap().as_str());
    }
    let utf16 = |text: &str| -> Vec<u8> {
        let units = text.encode_utf16().flat_map(u16::to_le_bytes);
        [0xFF, 0xFE].into_iter().chain(units).collect()
    };
    let (bytes, done) = made(&wanted(Format::Ini, "M/B", json!("+é")), &utf16("[M]\r\nB=ä\r\n"));
    assert_eq!(bytes, utf16("[M]\r\nB=ä;é\r\n"));
    assert_eq!(done.undo(&bytes).unwrap().unwrap(), utf16("[M]\r\nB=ä\r\n"));
}

#[test]
fn what_is_broken_is_left_alone() {
    for (format, text) in [
        (Format::Json, "{"),
        (Format::Json, ""),
        (Format::Toml, "a = "),
        (Format::Plist, "<plist><dict><string/></dict></plist>"),
        (Format::Plist, "<x/>"),
        (Format::Table, ""),
        (Format::Json, "{\"a\": 1}\n"),
    ] {
        let at = if format == Format::Table { "a" } else { "/a/b" };
        assert!(wanted(format, at, json!(1)).make(text.as_bytes()).is_err(), "{format:?} {text}");
    }
}

proptest! {
    /// Lists in settings as people leave them: quoted, commented, spaced in any way, with any line end and
    /// in any encoding that is met.
    #[test]
    fn lists_in_settings_come_back(
        members in proptest::collection::vec("[A-Z]{1,4}\\\\?", 0..5), gap in "[ \t]{0,2}", before in "[ ]{0,1}",
        quoted in any::<bool>(), comment in prop_oneof![Just(""), Just("  ; note, with more"), Just("\t# note")],
        end in prop_oneof![Just("\n"), Just("\r\n")], wide in any::<bool>(), last in any::<bool>(), sorted in any::<bool>(),
    ) {
        let list = members.join(&format!("{before},{gap}"));
        let list = if quoted { format!("\"{list}\"") } else { list };
        let close = if last { "" } else { end };
        let text = format!("; top{end}[Mixer]{end}Volume = 3{end}Banks ={gap}{list}{comment}{close}");
        let bytes = match wide {
            true => [vec![0xFF, 0xFE], text.encode_utf16().flat_map(u16::to_le_bytes).collect()].concat(),
            false => text.clone().into_bytes(),
        };
        let order = if sorted { Order::Sorted } else { Order::End };
        let wanted = NewEntry {
            separator: Some(", ".to_owned()), order, ..wanted(Format::Ini, "Mixer/Banks", json!("+m0\\"))
        };
        let (with, done) = made(&wanted, &bytes);
        prop_assert!(wanted.make(&with) == Ok(Made::Already));
        let undone = done.undo(&with).unwrap().unwrap();
        prop_assert_eq!(undone, bytes, "{}", text);
    }

    /// Whatever a list or a map looks like, one more in it and out again leaves every byte.
    #[test]
    fn in_and_out_again(
        members in proptest::collection::vec("[a-z]{1,4}", 1..5), pretty in any::<bool>(),
        trailing in any::<bool>(), comment in any::<bool>(), sorted in any::<bool>(), toml in any::<bool>(),
    ) {
        let mark = if toml { "#" } else { "//" };
        let glue = if pretty { "\n    " } else { " " };
        let note = if pretty && comment { format!(" {mark} said") } else { String::new() };
        let mut text = members.iter().map(|m| format!("{glue}\"{m}\"")).collect::<Vec<_>>().join(",");
        if trailing { text += ","; }
        text += &note;
        let close = if pretty { "\n  ]" } else { " ]" };
        let text = match toml {
            true => format!("[s]\nlist = [{text}{close}\nz = 1\n"),
            false => format!("{{ \"s\": {{\n  \"list\": [{text}{close}\n}} }}"),
        };
        let format = if toml { Format::Toml } else { Format::Json };
        let order = if sorted { Order::Sorted } else { Order::End };
        let wanted = NewEntry { order, ..wanted(format, "/s/list/-", json!("m0")) };
        let (bytes, done) = made(&wanted, text.as_bytes());
        let undone = done.undo(&bytes).unwrap().unwrap();
        prop_assert_eq!(String::from_utf8(undone).unwrap(), text);
    }

    #[test]
    fn any_text_is_no_panic(text in "\\PC{0,60}", bytes in proptest::collection::vec(any::<u8>(), 0..80)) {
        for format in [Format::Json, Format::Toml, Format::Ini, Format::Table, Format::Plist, Format::Lines] {
            for bytes in [text.as_bytes(), &bytes, &[b"bplist00", &bytes[..]].concat()] {
                let _ = wanted(format, "/a/-", json!("x")).make(bytes);
                let _ = wanted(format, "a", json!({"a": 1})).make(bytes);
            }
        }
    }
}

proptest::proptest! {
    /// However a list or a map was changed, the tree says what reading the text again says.
    #[test]
    fn a_tree_follows_its_text(acts in proptest::collection::vec((0u8..5, 0usize..9), 1..14)) {
        let text = "{\n  // all\n  \"list\": [\"a\", { \"n\": [1, 2] }, \"c\"], /* more */\n  \"map\": {\n    \"x\": 1, // one\n    \"y\": [\n      \"é\",\n    ],\n  },\n  \"last\": [3]\n}\n";
        let mut tree = super::tree::Tree::read(text.as_bytes(), &super::json::Json).unwrap();
        for (act, n) in acts {
            let value = serde_json::json!({ "new": [n, "ü"] });
            let _ = match act {
                0 => tree.insert("/list", n, &value),
                1 => tree.remove("/list", n),
                2 => tree.set(&format!("/map/k{n}"), &value),
                3 => tree.put_back(&format!("/map/{}", ["x", "y", "k1"][n % 3]), None),
                _ => tree.set("/list/1", &serde_json::json!(["longer than it was", n])),
            };
            proptest::prop_assert_eq!(tree.read_again().unwrap(), tree.root_node().clone());
        }
    }
}
