//! Spec lines and demands: what a line accepts, and in what a file fails it, word by word.

use deft_needle_audio::clip::{Extra, Loop};
use deft_needle_audio::spec::{Chunks, Demand, Facts, Format, Header, Looped, Spec};
use deft_needle_audio::units::FrameRange;
use proptest::prelude::*;

const CONTAINERS: [&str; 5] = ["wav", "aiff", "ogg", "flac", "m4a"];
const ENCODINGS: [&str; 5] = ["pcm16", "pcm24", "vorbis", "flac16", "aac"];
const RATES: [&str; 4] = ["8000", "22050", "44100", "48000"];
const CHANNELS: [&str; 4] = ["mono", "stereo", "quad", "3ch"];

/// The words of a line, by their places in the tables above.
type Words = [usize; 4];

fn words() -> impl Strategy<Value = Words> {
    (0..CONTAINERS.len(), 0..ENCODINGS.len(), 0..RATES.len(), 0..CHANNELS.len())
        .prop_map(<[usize; 4]>::from)
}

fn word(place: usize, at: usize) -> &'static str {
    match place {
        0 => CONTAINERS[at],
        1 => ENCODINGS[at],
        2 => RATES[at],
        _ => CHANNELS[at],
    }
}

fn line(words: &Words) -> String {
    let all: Vec<&str> = words.iter().enumerate().map(|(place, at)| word(place, *at)).collect();
    all.join(" ")
}

fn facts(words: &Words) -> Facts {
    Facts { frames: 100, ..Facts::new(line(words).parse::<Format>().unwrap(), 1000) }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    /// A file fails in exactly the words that differ, in the order of the line.
    #[test]
    fn each_word_that_differs_is_named(asked in words(), own in words()) {
        let demand = Demand::from(line(&asked).parse::<Spec>().unwrap());
        let found: Vec<&str> = demand.shortfalls(&facts(&own)).iter().map(|s| s.what).collect();
        let names = ["container", "encoding", "sample rate", "channels"];
        let want: Vec<&str> = (0..4).filter(|at| asked[*at] != own[*at]).map(|at| names[at]).collect();
        prop_assert_eq!(found, want);
    }

    /// Alternatives accept each of their words, `any` accepts all, and a line comes back as it was.
    #[test]
    fn alternatives_and_any(a in words(), b in words(), any in prop::collection::vec(any::<bool>(), 4)) {
        let both: Vec<String> = (0..4).map(|at| match (any[at], a[at] == b[at]) {
            (true, _) => "any".to_owned(),
            (false, true) => word(at, a[at]).to_owned(),
            (false, false) => format!("{}|{}", word(at, a[at]), word(at, b[at])),
        }).collect();
        let text = both.join(" ");
        let spec: Spec = text.parse().unwrap();
        prop_assert_eq!(spec.to_string(), text);
        for words in [&a, &b] {
            prop_assert!(spec.accepts(facts(words).format), "{} takes {}", spec, line(words));
        }
        let told = serde_json::to_string(&spec).unwrap();
        prop_assert_eq!(serde_json::from_str::<Spec>(&told).unwrap(), spec);
    }
}

#[test]
fn what_stands_beside_the_words() {
    let own = facts(&[0, 0, 2, 0]);
    let demand = || Demand::from("wav pcm16 44100 mono".parse::<Spec>().unwrap());
    let looped = Loop::endless(FrameRange { start: 0, end: 50 });
    let extra = |id: &str| Extra { id: id.to_owned(), offset: 44, bytes: 8 };
    let cases: [(&str, Demand, Facts, &[&str]); 9] = [
        ("it meets all", demand(), own.clone(), &[]),
        (
            "another header",
            Demand { header: Some(Header::Plain), ..demand() },
            Facts { header: Some(Header::Extensible), ..own.clone() },
            &["header: extensible, should be plain"],
        ),
        (
            "other blocks",
            Demand { block_bytes: Some(256), ..demand() },
            Facts { block_bytes: Some(512), ..own.clone() },
            &["block size: 512 bytes, should be 256 bytes"],
        ),
        (
            "a text, where nothing may be",
            Demand { chunks: Some(Chunks::Bare), ..demand() },
            Facts { extras: vec![extra("LIST INFO")], ..own.clone() },
            &["chunks: LIST INFO, should be none but the samples"],
        ),
        (
            "a text, where all may stay",
            Demand { chunks: Some(Chunks::Kept), ..demand() },
            Facts { extras: vec![extra("LIST INFO")], ..own.clone() },
            &[],
        ),
        (
            "no loop",
            Demand { looped: Looped::Required, ..demand() },
            own.clone(),
            &["loop: none, should be a loop"],
        ),
        (
            "a loop",
            Demand { looped: Looped::Forbidden, ..demand() },
            Facts { loops: vec![looped], ..own.clone() },
            &["loop: there is one, should be none"],
        ),
        (
            "other loop tags",
            Demand { loop_tags: Some("start=FROM,length=FOR".parse().unwrap()), ..demand() },
            Facts {
                loops: vec![looped],
                loop_names: vec!["LOOPSTART".to_owned(), "LOOPEND".to_owned()],
                ..own.clone()
            },
            &["loop tags: LOOPSTART LOOPEND, should be FROM FOR"],
        ),
        (
            "cut short",
            demand(),
            Facts {
                notes: vec![deft_needle_audio::Note::Truncated { promised: 150, held: 100 }],
                ..own
            },
            &["whole: 100 frames, should be 150 frames as its header says"],
        ),
    ];
    for (name, demand, own, want) in cases {
        let found: Vec<String> = demand.shortfalls(&own).iter().map(ToString::to_string).collect();
        assert_eq!(found, want, "{name}");
    }
}

/// A demand read off a file is met by that file.
#[test]
fn a_file_meets_what_is_like_it() {
    for (container, encoding) in
        [("wav", "pcm16"), ("ogg", "vorbis"), ("flac", "flac16"), ("m4a", "aac")]
    {
        let format: Format = format!("{container} {encoding} 48000 stereo").parse().unwrap();
        let own = Facts {
            frames: 7,
            header: deft_needle_audio::spec::usual_header(format),
            extras: vec![Extra { id: "LIST INFO".to_owned(), offset: 0, bytes: 4 }],
            ..Facts::new(format, 99)
        };
        assert_eq!(Demand::like(&own).shortfalls(&own), [], "{format}");
        let other = Facts { format: "wav pcm24 48000 stereo".parse().unwrap(), ..own.clone() };
        assert!(!Demand::like(&own).shortfalls(&other).is_empty(), "{format}");
    }
}

/// Layouts by their words, their number of channels, and what a number alone means where formats name no layout.
#[test]
fn channels_by_word_and_by_number() {
    use deft_needle_audio::spec::Channels;
    for (word, count, usual) in [
        ("mono", 1, "mono"),
        ("stereo", 2, "stereo"),
        ("3ch", 3, "3ch"),
        ("quad", 4, "quad"),
        ("4ch", 4, "quad"),
        ("5ch", 5, "5ch"),
        ("5.1", 6, "5.1"),
        ("6ch", 6, "5.1"),
        ("7.1", 8, "7.1"),
        ("32ch", 32, "32ch"),
    ] {
        let channels = Channels::from_word(word).unwrap();
        assert_eq!((channels.count(), channels.to_string().as_str()), (count, word));
        assert_eq!(Channels::usual(count).unwrap().to_string(), usual, "{word}");
        assert!(Channels::usual(count).unwrap().count() == count);
    }
    for word in ["", "0ch", "33ch", "surround", "2", "-1ch", "1.5ch"] {
        assert!(Channels::from_word(word).is_none(), "{word}");
    }
    assert!(Channels::usual(0).is_none() && Channels::usual(33).is_none());
}
