//! Packets in containers of several kinds: CAF, Ogg around FLAC, MPEG-4 in fragments and around Opus and FLAC.

use crate::bench::{Folder, audio_bytes, boxed, demand, samples};
use deft_needle_audio::Clip;
use deft_needle_audio::clip::{Loop, Marker, Tag};
use deft_needle_audio::plan::{Work, plan};
use deft_needle_audio::spec::{Chunks, Demand};
use deft_needle_audio::units::FrameRange;

fn words(all: &[u32]) -> Vec<u8> {
    all.iter().flat_map(|w| w.to_be_bytes()).collect()
}

/// What was made, under a name of its own: the next that is made takes its place.
fn kept(folder: &Folder, name: &str, bytes: &[u8]) -> Clip {
    Clip::open(&folder.put(name, bytes)).unwrap()
}

/// A clip as this, under that name.
fn fitted(folder: &Folder, clip: &Clip, line: &str, name: &str) -> Clip {
    let plan = plan(clip.facts(), &demand(line)).unwrap();
    kept(folder, name, &folder.carry_out(clip, &plan).1)
}

/// The packets of a clip, one by one.
fn packets(clip: &Clip) -> Vec<Vec<u8>> {
    let (mut all, mut packet) = (Vec::new(), Vec::new());
    let mut packets = clip.packets().unwrap();
    while packets.next(&mut packet).unwrap() {
        all.push(packet.clone());
    }
    all
}

/// Loops, markers and texts of a CAF stay when it becomes another, and its packets are copied where they may.
#[test]
fn caf_keeps_loops_markers_and_texts() {
    let folder = Folder::new();
    let wav = folder.make("wav pcm16 44100 stereo", 20_000);
    for line in ["caf pcm24 any any", "caf alac16 any any", "caf imaadpcm any any"] {
        let whole = Demand { chunks: Some(Chunks::Kept), ..demand(line) };
        let mut made = plan(wav.facts(), &whole).unwrap();
        made.to.loops = vec![
            Loop::endless(FrameRange { start: 100, end: 15_000 }),
            Loop::endless(FrameRange { start: 16_000, end: 20_000 }),
        ];
        made.to.markers = vec![
            Marker { frame: 5, name: "strike".to_owned() },
            Marker { frame: 700, name: String::new() },
        ];
        made.to.tags = vec![Tag::new("TITLE", "Kettle"), Tag::new("ARTIST", "Гуд")];
        let caf = kept(&folder, "kept.caf", &folder.carry_out(&wav, &made).1);
        let facts = caf.facts().clone();
        assert_eq!(
            (&facts.loops, &facts.markers, &facts.tags),
            (&made.to.loops, &made.to.markers, &made.to.tags)
        );
        let named = Demand { chunks: Some(Chunks::Loops), ..demand("caf any any any") };
        let (_, work, bare) = folder.fit_to(&caf, &named);
        assert_eq!(work, Work::Rewrap, "{line}");
        assert_eq!((bare.loops.len(), bare.markers.len(), bare.tags.len()), (2, 0, 0), "{line}");
        assert_eq!((bare.frames, bare.audio_bytes), (facts.frames, facts.audio_bytes), "{line}");
    }
}

/// Channels that have places keep them, those that have none stay without.
#[test]
fn places_of_channels_are_told() {
    let folder = Folder::new();
    for (own, line, want) in [
        ("wav pcm16 44100 5.1", "caf pcm16 any any", "5.1"),
        ("wav pcm16 44100 6ch", "caf pcm16 any any", "6ch"),
        ("wav pcm16 44100 5.1", "caf alac16 any any", "5.1"),
        ("wav pcm16 44100 7.1", "m4a alac24 any any", "7.1"),
        ("wav pcm16 44100 4ch", "m4a alac16 any any", "4ch"),
        ("wav pcm16 44100 5.1", "ogg flac16 any any", "5.1"),
    ] {
        let clip = folder.make(own, 5000);
        let (out, meant) = (folder.fit(&clip, line), samples(&clip));
        assert_eq!(out.facts().format.channels.to_string(), want, "{own} to {line}");
        assert!(samples(&out) == meant, "{own} to {line}");
    }
}

/// Every number of channels of ALAC comes back as it went, in its order.
#[test]
fn alac_of_up_to_eight_channels() {
    let folder = Folder::new();
    for count in 1..=8 {
        let clip = folder.make(&format!("wav pcm24 48000 {count}ch"), 9000);
        for line in ["m4a alac24 any any", "caf alac24 any any"] {
            assert!(samples(&folder.fit(&clip, line)) == samples(&clip), "{line} {count}");
        }
    }
}

/// Ogg around FLAC: texts, loops and the check sum of all samples; its packets go into another Ogg as they are.
#[test]
fn flac_in_ogg() {
    let folder = Folder::new();
    let wav = folder.make("wav pcm16 44100 stereo", 50_000);
    let mut made = plan(wav.facts(), &demand("ogg flac16 any any")).unwrap();
    made.to.tags = vec![Tag::new("TITLE", "Kettle")];
    let bytes = folder.carry_out(&wav, &made).1;
    let ogg = kept(&folder, "kept.ogg", &bytes);
    // The same STREAMINFO, with its sum of all samples, as a file of FLAC alone has.
    let flac = folder.fit(&wav, "flac flac16 any any");
    let alone = std::fs::read(flac.input().path().unwrap()).unwrap();
    assert_eq!(bytes[45..45 + 34], alone[8..8 + 34]);
    assert!(packets(&ogg).concat() == audio_bytes(&flac));
    let bare = Demand { chunks: Some(Chunks::Bare), ..demand("ogg any any any") };
    let (_, work, facts) = folder.fit_to(&ogg, &bare);
    assert_eq!((work, facts.tags.len(), facts.frames), (Work::Rewrap, 0, 50_000));
}

/// A sound description around a codec's own box, and a film of one track of `clock` ticks a second.
fn film(kind: &[u8], codec: &[u8], clock: u32, tables: &[u8], after: &[u8]) -> Vec<u8> {
    let entry = [
        &[0, 0, 0, 0, 0, 0, 0, 1][..],
        &[0; 8],
        &[0, 2, 0, 16, 0, 0, 0, 0, 0xAC, 0x44, 0, 0],
        codec,
    ]
    .concat();
    let stsd = boxed(b"stsd", &[words(&[0, 1]), boxed(kind, &entry)].concat());
    let mdia = [
        boxed(b"mdhd", &words(&[0, 0, 0, clock, 0, 0])),
        boxed(b"hdlr", &[words(&[0, 0]), b"soun".to_vec(), words(&[0, 0, 0])].concat()),
        boxed(b"minf", &boxed(b"stbl", &[stsd, tables.to_vec()].concat())),
    ]
    .concat();
    let tkhd = boxed(b"tkhd", &words(&[0, 0, 0, 1, 0, 0]));
    let trak = boxed(b"trak", &[tkhd, boxed(b"mdia", &mdia)].concat());
    let head = boxed(b"ftyp", b"M4A \0\0\0\0");
    [head, boxed(b"moov", &[trak, after.to_vec()].concat())].concat()
}

/// Fragments whose runs say each packet's size, or what is usual; AAC whose core an M4A of ours holds. It is put in
/// order when it is fitted: the description first, no fragments.
#[test]
fn fragments_are_read_and_put_in_order() {
    let folder = Folder::new();
    let wav = folder.make("wav pcm16 44100 stereo", 30_000);
    let m4a = fitted(&folder, &wav, "m4a aac any any", "kept.m4a");
    let whole = std::fs::read(m4a.input().path().unwrap()).unwrap();
    let at = whole.windows(4).position(|kind| kind == b"esds").unwrap() - 4;
    let length = u32::from_be_bytes(whole[at..at + 4].try_into().unwrap()) as usize;
    let empty = [
        boxed(b"stts", &words(&[0, 0])),
        boxed(b"stsc", &words(&[0, 0])),
        boxed(b"stsz", &words(&[0, 0, 0])),
        boxed(b"stco", &words(&[0, 0])),
    ]
    .concat();
    let mvex = boxed(b"mvex", &boxed(b"trex", &words(&[0, 1, 1, 1024, 0, 0])));
    let mut file = film(b"mp4a", &whole[at..at + length], 44_100, &empty, &mvex);
    let all = packets(&m4a);
    for run in all.chunks(7) {
        let sizes = run.iter().map(|packet| packet.len() as u32);
        let fields: Vec<u32> = [0x201, run.len() as u32, 0].into_iter().chain(sizes).collect();
        let moof = |offset: u32| {
            let mut fields = fields.clone();
            fields[2] = offset;
            let parts = [boxed(b"tfhd", &words(&[0x2_0000, 1])), boxed(b"trun", &words(&fields))];
            boxed(b"moof", &boxed(b"traf", &parts.concat()))
        };
        let length = moof(0).len() as u32;
        file.extend(moof(length + 8));
        file.extend(boxed(b"mdat", &run.concat()));
    }
    let clip = folder.open(&file).unwrap();
    assert!(packets(&clip) == all);
    assert_eq!(clip.facts().frames, all.len() as u64 * 1024);
    assert!(clip.facts().described_late && clip.facts().notes.is_empty());
    let delay = samples(&clip)[0].len() - all.len() * 1024;
    assert_eq!(delay, 0);
    let (bytes, work, facts) = folder.fit_to(&clip, &demand("m4a aac any any"));
    assert_eq!((work, facts.described_late), (Work::Rewrap, false));
    let place = |kind: &[u8]| bytes.windows(4).position(|found| found == kind);
    assert!(place(b"moov") < place(b"mdat") && place(b"moof").is_none());
    for length in (0..file.len()).step_by(97) {
        if let Ok(clip) = folder.open(&file[..length]) {
            let _ = clip.frames().map(|mut frames| deft_needle_audio::block::collect(&mut *frames));
        }
    }
}

/// Opus and FLAC in MPEG-4, around packets of our own.
#[test]
fn mpeg_4_around_opus_and_flac() {
    let folder = Folder::new();
    let tables = |packets: &[Vec<u8>], ticks: u32, first: u32| {
        let sizes = packets.iter().map(|packet| packet.len() as u32);
        let count = packets.len() as u32;
        let stsz: Vec<u32> = [0, 0, count].into_iter().chain(sizes).collect();
        [
            boxed(b"stts", &words(&[0, 1, count, ticks])),
            boxed(b"stsc", &words(&[0, 1, 1, count, 1])),
            boxed(b"stsz", &words(&stsz)),
            boxed(b"stco", &words(&[0, 1, first])),
        ]
        .concat()
    };
    let around = |kind: &[u8], codec: &[u8], clock: u32, ticks: u32, packets: &[Vec<u8>]| {
        let of = |first| film(kind, codec, clock, &tables(packets, ticks, first), &[]);
        let head = of(0).len() as u32;
        [of(head + 8), boxed(b"mdat", &packets.concat())].concat()
    };
    let wav = folder.make("wav f32 48000 stereo", 48_000);
    let opus = fitted(&folder, &wav, "ogg opus any any", "kept.opus");
    let delay = opus.stream().delay as u16;
    let specific = [&[0, 2][..], &delay.to_be_bytes(), &words(&[48_000]), &[0, 0, 0]].concat();
    let file = around(b"Opus", &boxed(b"dOps", &specific), 48_000, 960, &packets(&opus));
    let clip = folder.open(&file).unwrap();
    assert_eq!(clip.facts().format.to_string(), "m4a opus 48000 stereo");
    let (found, meant) = (samples(&clip), samples(&opus));
    assert!(found[1].len() >= 48_000 && found[1][..48_000] == meant[1][..]);

    let wav = folder.make("wav pcm16 44100 stereo", 8192);
    let wav = kept(&folder, "kept.wav", &std::fs::read(wav.input().path().unwrap()).unwrap());
    let flac = fitted(&folder, &wav, "ogg flac16 any any", "kept.ogg");
    let info = flac.stream().headers[0].clone();
    let specific = [&[0; 4][..], &[0x80, 0, 0, 34], &info].concat();
    let file = around(b"fLaC", &boxed(b"dfLa", &specific), 44_100, 4096, &packets(&flac));
    let clip = folder.open(&file).unwrap();
    assert_eq!(clip.facts().format.to_string(), "m4a flac16 44100 stereo");
    assert!(samples(&clip) == samples(&wav));
}
