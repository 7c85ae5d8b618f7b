//! Files that others write: made by hand here, read exactly.

use crate::bench::{Folder, Riff, boxed, fmt, made, samples, signal};
use deft_needle_audio::clip::{Note, Tag};
use deft_needle_audio::read::ogg::links::links;
use deft_needle_audio::read::{Hints, Input, Stream};
use deft_needle_audio::spec::Output;
use deft_needle_audio::units::FrameRange;
use deft_needle_audio::write::{Along, writer};
use deft_needle_audio::{Clip, Error};
use std::io::Cursor;

/// Frames of silence with an info tag: the length is exact, and the start is not late.
#[test]
fn mp3_by_its_info_tag() {
    let folder = Folder::new();
    let frame = |contents: &[(usize, &[u8])]| {
        let mut bytes = vec![0; 417];
        bytes[..4].copy_from_slice(&[0xFF, 0xFB, 0x90, 0x64]);
        for (at, part) in contents {
            bytes[*at..*at + part.len()].copy_from_slice(part);
        }
        bytes
    };
    // Behind 32 bytes of side information: its name, the flag for the number of frames, twenty.
    let info =
        frame(&[(36, b"Info\0\0\0\x01\0\0\0\x14"), (48, b"Maker1.00"), (69, &[0x24, 0x04, 0x57])]);
    let mut file = b"ID3\x03\0\0\0\0\0\x12TIT2\0\0\0\x08\0\0\x03Kettle!".to_vec();
    file.extend(&info);
    file.extend(frame(&[]).repeat(20));
    let clip = folder.open(&file).unwrap();
    // 0x240 frames before, 0x457 behind.
    assert_eq!(clip.facts().frames, 20 * 1152 - 0x240 - 0x457);
    assert_eq!(clip.facts().tags, [Tag::new("TITLE", "Kettle!")]);
    assert_eq!(samples(&clip)[0].len() as u64, clip.facts().frames);
    let short = folder.open(&file[..file.len() - 500]).unwrap();
    assert!(matches!(
        short.facts().notes[..],
        [Note::Truncated { promised: 23_040, held: 20_736 }]
    ));
    let untold = folder.open(&frame(&[]).repeat(5)).unwrap();
    assert_eq!((untold.facts().frames, samples(&untold)[0].len()), (5760, 5760));
}

/// A Matroska file around the packets of an Ogg file, by the shortest way.
#[test]
fn matroska_around_vorbis() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 48000 stereo", 30_000);
    let ogg = folder.fit(&clip, "ogg vorbis any any");
    let element = |id: &[u8], contents: &[u8]| {
        let size = (contents.len() as u64 | 1 << 56).to_be_bytes();
        [id, &size[..], contents].concat()
    };
    let headers = ogg.stream().headers;
    let texts = b"\x03vorbis\0\0\0\0\0\0\0\0\x01";
    let lengths = [headers[0].len(), texts.len()]
        .map(|n| vec![255; n / 255].into_iter().chain([(n % 255) as u8]).collect::<Vec<u8>>());
    let private = [&[2][..], &lengths.concat(), &headers[0], texts, &headers[1]].concat();
    let audio = [element(b"\xB5", &48_000f64.to_be_bytes()), element(b"\x9F", &[2])].concat();
    let track = [
        element(b"\xD7", &[1]),
        element(b"\x73\xC5", &[1]),
        element(b"\x83", &[2]),
        element(b"\x86", b"A_VORBIS"),
        element(b"\x63\xA2", &private),
        element(b"\xE1", &audio),
    ]
    .concat();
    let mut blocks = Vec::new();
    let (mut packets, mut packet, mut at) = (ogg.packets().unwrap(), Vec::new(), 0u16);
    while packets.next(&mut packet).unwrap() {
        blocks.push([&[0x81][..], &at.to_be_bytes(), &[0x80], &packet].concat());
        at += 10;
    }
    let last = blocks.pop().unwrap();
    let mut cluster = element(b"\xE7", &[0]);
    blocks.iter().for_each(|block| cluster.extend(element(b"\xA3", block)));
    let ended = |discarded: &[u8]| {
        let group = [element(b"\xA1", &last), element(b"\x75\xA2", discarded)].concat();
        [cluster.clone(), element(b"\xA0", &group)].concat()
    };
    let info = [
        element(b"\x2A\xD7\xB1", &1_000_000u32.to_be_bytes()),
        element(b"\x4D\x80", b"x"),
        element(b"\x57\x41", b"x"),
    ]
    .concat();
    let file = |cluster: &[u8]| {
        let segment = [
            element(b"\x15\x49\xA9\x66", &info),
            element(b"\x16\x54\xAE\x6B", &element(b"\xAE", &track)),
            element(b"\x1F\x43\xB6\x75", cluster),
        ]
        .concat();
        let head = element(b"\x1A\x45\xDF\xA3", &element(b"\x42\x82", b"matroska"));
        folder.open(&[head, element(b"\x18\x53\x80\x67", &segment)].concat()).unwrap()
    };
    let whole = file(&ended(&[0]));
    assert_eq!(whole.facts().format.to_string(), "mkv vorbis 48000 stereo");
    let (a, b) = (samples(&ogg), samples(&whole));
    assert_eq!(a[0][..], b[0][..a[0].len()]);
    // What the last block says of its end, in nanoseconds, brings the length of the Ogg file back.
    let unplayed = (whole.facts().frames - 30_000) * 1_000_000_000 / 48_000;
    let exact = file(&ended(&(unplayed as u32).to_be_bytes()));
    assert_eq!((exact.facts().frames, samples(&exact)[0].len()), (30_000, 30_000));
    assert_eq!(a[0], samples(&exact)[0]);
}

/// HE-AAC is heard whole, not only its core.
#[cfg(feature = "aac")]
#[test]
fn he_aac_at_its_full_rate() {
    use fdk_aac::enc::{AudioObjectType, BitRate, ChannelMode, Encoder, EncoderParams, Transport};
    let folder = Folder::new();
    let encoder = Encoder::new(EncoderParams {
        bit_rate: BitRate::Cbr(48_000),
        sample_rate: 44_100,
        transport: Transport::Raw,
        channels: ChannelMode::Stereo,
        audio_object_type: AudioObjectType::Mpeg4HeAac,
    })
    .unwrap();
    let info = encoder.info().unwrap();
    let wave = |n: usize| ((n as f64 * 0.9).sin() * 8000.0) as i16;
    let input: Vec<i16> = (0..2048 * 30).flat_map(|n| [wave(n), wave(n)]).collect();
    let (mut packets, mut out, mut at) = (Vec::new(), vec![0; 8192], 0);
    while at < input.len() {
        let done = encoder.encode(&input[at..], &mut out).unwrap();
        at += done.input_consumed;
        if done.output_size > 0 {
            packets.push(out[..done.output_size].to_vec());
        } else if done.input_consumed == 0 {
            break;
        }
    }
    let config = &info.confBuf[..info.confSize as usize];
    let part = |tag: u8, contents: &[u8]| [&[tag, contents.len() as u8][..], contents].concat();
    let decoder = [&[0x40, 0x15][..], &[0; 11], &part(5, config)].concat();
    let stream = part(3, &[&[0, 0, 0][..], &part(4, &decoder), &part(6, &[2])].concat());
    let boxed = |kind: &[u8], contents: &[u8]| {
        [&(8 + contents.len() as u32).to_be_bytes()[..], kind, contents].concat()
    };
    let esds = boxed(b"esds", &[&[0; 4][..], &stream].concat());
    let entry = [
        &[0, 0, 0, 0, 0, 0, 0, 1][..],
        &[0; 8],
        &[0, 2, 0, 16, 0, 0, 0, 0, 0xAC, 0x44, 0, 0],
        &esds,
    ]
    .concat();
    let description = [&[0, 0, 0, 0, 0, 0, 0, 1][..], &boxed(b"mp4a", &entry)].concat();
    let output =
        Output::plain("m4a aac 44100 stereo".parse().unwrap(), 2048 * packets.len() as u64);
    let along = Along {
        stream: Some(Stream {
            headers: vec![description],
            delay: 0,
            packet_frames: 2048,
            packets: packets.len() as u64,
            ..Stream::default()
        }),
        ..Along::default()
    };
    let mut file = Cursor::new(Vec::new());
    let mut writer = writer(&mut file, &output, along).unwrap();
    packets.iter().for_each(|packet| writer.copy(packet).unwrap());
    writer.finish().unwrap();
    drop(writer);
    let clip = folder.open(file.get_ref()).unwrap();
    assert_eq!(clip.facts().format.to_string(), "m4a aac 44100 stereo");
    let found = samples(&clip);
    assert_eq!(found[0].len(), 2048 * packets.len());
    // The tone lies at 6,317 Hz; it is there at its own level.
    let power: f64 = found[0][20_000..40_000].iter().map(|s| s * s).sum::<f64>() / 20_000.0;
    assert!((power.sqrt() * 2f64.sqrt() * 32_768.0 - 8000.0).abs() < 800.0, "{power}");
}

/// AU and CAF by hand, and samples without a header.
#[test]
fn formats_that_are_only_read() {
    let folder = Folder::new();
    let frames: Vec<u8> = (0..100i16).flat_map(|n| (n * 300).to_be_bytes()).collect();
    let au =
        [&b".snd\0\0\0\x18\xFF\xFF\xFF\xFF\0\0\0\x03\0\0\x56\x22\0\0\0\x02"[..], &frames].concat();
    let clip = folder.open(&au).unwrap();
    assert_eq!(
        (clip.facts().format.to_string().as_str(), clip.facts().frames),
        ("au pcm16 22050 stereo", 50)
    );
    assert_eq!(clip.facts().notes, [Note::LengthLeftOpen]);
    let chunk = |id: &[u8], contents: &[u8]| {
        [id, &(contents.len() as u64).to_be_bytes(), contents].concat()
    };
    let desc =
        [&22_050f64.to_be_bytes()[..], b"lpcm\0\0\0\0\0\0\0\x04\0\0\0\x01\0\0\0\x02\0\0\0\x10"]
            .concat();
    let data = [&[0; 4][..], &frames].concat();
    let info = b"\0\0\0\x01title\0Bell\0";
    let caf = [
        &b"caff\0\x01\0\0"[..],
        &chunk(b"desc", &desc),
        &chunk(b"info", info),
        &chunk(b"data", &data),
    ]
    .concat();
    let caf = folder.open(&caf).unwrap();
    assert_eq!(caf.facts().format.to_string(), "caf pcm16be 22050 stereo");
    assert_eq!(caf.facts().tags, [Tag::new("TITLE", "Bell")]);
    assert_eq!(samples(&caf)[1][3], 7.0 * 300.0 / 32_768.0);
    let raw = Hints { raw: Some("raw pcm16be 22050 stereo".parse().unwrap()), ..Hints::default() };
    let raw = Clip::from_input(Input::file(&folder.put("dump", &frames)), &raw).unwrap();
    assert_eq!(samples(&raw), samples(&caf));
}

/// QuickTime with PCM in two chunks, an edit list that begins late, and a second track of pictures.
#[test]
fn quicktime_by_hand() {
    let folder = Folder::new();
    let words = |all: &[u32]| all.iter().flat_map(|w| w.to_be_bytes()).collect::<Vec<u8>>();
    let film = |first: u32, second: u32| {
        let entry =
            [&[0, 0, 0, 0, 0, 0, 0, 1][..], &[0; 8], &[0, 1, 0, 16, 0, 0, 0, 0, 0x1F, 0x40, 0, 0]]
                .concat();
        let stbl = [
            boxed(b"stsd", &[words(&[0, 1]), boxed(b"sowt", &entry)].concat()),
            boxed(b"stts", &words(&[0, 1, 100, 1])),
            boxed(b"stsc", &words(&[0, 2, 1, 60, 1, 2, 40, 1])),
            boxed(b"stsz", &words(&[0, 2, 100])),
            boxed(b"stco", &words(&[0, 2, first, second])),
        ]
        .concat();
        let mdia = [
            boxed(b"mdhd", &words(&[0, 0, 0, 8000, 100, 0])),
            boxed(b"hdlr", &[words(&[0, 0]), b"soun".to_vec(), words(&[0, 0, 0])].concat()),
            boxed(b"minf", &boxed(b"stbl", &stbl)),
        ]
        .concat();
        // A pause, then the track from its tenth frame on, for 10 ms.
        let elst = words(&[0, 2, 500, u32::MAX, 0x1_0000, 10, 10, 0x1_0000]);
        let sound = [boxed(b"edts", &boxed(b"elst", &elst)), boxed(b"mdia", &mdia)].concat();
        let picture = boxed(b"mdia", &boxed(b"hdlr", &[words(&[0, 0]), b"vide".to_vec()].concat()));
        let mvhd = boxed(b"mvhd", &words(&[0, 0, 0, 1000, 12]));
        let moov = [mvhd, boxed(b"trak", &picture), boxed(b"trak", &sound)].concat();
        [boxed(b"ftyp", b"qt  \0\0\0\0"), boxed(b"moov", &moov)].concat()
    };
    let samples_of = |range: std::ops::Range<i16>| {
        range.flat_map(|n| (n * 100).to_le_bytes()).collect::<Vec<u8>>()
    };
    let head = film(0, 0).len() as u32;
    let data = [samples_of(0..60), vec![9; 30], samples_of(60..100)].concat();
    let file = [film(head + 8, head + 8 + 150), boxed(b"mdat", &data)].concat();
    let clip = folder.open(&file).unwrap();
    assert_eq!(clip.facts().format.to_string(), "mp4 pcm16le 8000 mono");
    assert_eq!((clip.facts().frames, clip.facts().notes.len()), (80, 0));
    let want: Vec<f64> = (10..90).map(|n| f64::from(n) * 100.0 / 32_768.0).collect();
    assert_eq!(samples(&clip), [want]);
}

/// Clips one behind the other: the first is read, and each lies where it should, be their serial numbers one.
#[test]
fn chains_are_told_apart() {
    let folder = Folder::new();
    let link = |line: &str, frames| made(line, signal(line.parse().unwrap(), frames));
    let vorbis = link("ogg vorbis 44100 stereo", 30_000);
    let flac = link("ogg flac16 22050 mono", 9_000);
    let opus = link("ogg opus 48000 mono", 20_000);
    let (a, b, c) = (vorbis.len() as u64, flac.len() as u64, opus.len() as u64);
    let chain = [&vorbis[..], &flac, &opus].concat();
    for (name, bytes, want) in [
        ("a chain", chain.clone(), vec![0..a, a..a + b, a + b..a + b + c]),
        ("no chain", flac.clone(), vec![0..b; 1]),
        (
            "dirt behind it",
            [&chain[..], b"dirt"].concat(),
            vec![0..a, a..a + b, a + b..a + b + c + 4],
        ),
        ("dirt in it", [&vorbis[..], b"dirt", &flac].concat(), vec![0..a + 4, a + 4..a + 4 + b]),
        (
            "cut within a page",
            chain[..chain.len() - 9].to_vec(),
            vec![0..a, a..a + b, a + b..a + b + c - 9],
        ),
        ("nothing", vec![], vec![]),
    ] {
        let path = folder.put("chain.ogg", &bytes);
        let found = links(Input::file(&path).open().unwrap(), &path).unwrap();
        assert_eq!(found, want, "{name}");
    }
    let clip = Clip::open(&folder.put("radio.ogg", &chain)).unwrap();
    let alone = folder.open(&vorbis).unwrap();
    assert_eq!(clip.facts().frames, alone.facts().frames);
    assert_eq!(samples(&clip), samples(&alone));
    assert_eq!(crate::bench::audio_bytes(&clip), crate::bench::audio_bytes(&alone));
    assert_eq!(clip.facts().notes, [Note::Chained { clips: 3, next: "radio.ogg#2".to_owned() }]);
    // One clip is wanted, not three: its packets are taken over, the others are not.
    assert_eq!(folder.fit(&clip, "ogg vorbis any any").facts().notes, []);
}

/// A stream within a WAV, with an odd chunk that lacks its pad byte before the next: the frames tell all but the loop, and
/// come out of it as they are.
#[test]
fn mp3_within_a_wav() {
    let folder = Folder::new();
    let mp3 =
        made("mp3 mp3:128k 44100 stereo", signal("wav f64 44100 stereo".parse().unwrap(), 20_000));
    let alone = Clip::open(&folder.put("alone.mp3", &mp3)).unwrap();
    let mut smpl = vec![0u32; 9];
    smpl[7] = 1;
    smpl.extend([0, 0, 5_000, 14_999, 0, 0]);
    let smpl: Vec<u8> = smpl.iter().flat_map(|word| word.to_le_bytes()).collect();
    let mut fmt = fmt(0x55, 2, 44_100, 0);
    fmt.extend([12, 0, 1, 0, 2, 0, 0, 0, 0xA1, 1, 1, 0, 0, 0]);
    let odd = [&mp3[..], &[0][..1 - mp3.len() % 2]].concat();
    let riff = Riff::new().chunk(b"fmt ", &fmt).chunk(b"fact", &20_000u32.to_le_bytes());
    let riff = riff.unpadded(b"data", &odd).chunk(b"smpl", &smpl);
    let clip = folder.open(&riff.bytes()).unwrap();
    let facts = clip.facts();
    assert_eq!(facts.format.to_string(), "wav mp3 44100 stereo");
    assert_eq!(facts.loops[0].range, FrameRange { start: 5_000, end: 15_000 });
    assert_eq!(samples(&clip), samples(&alone));
    let out = folder.fit(&clip, "mp3 mp3 any any");
    assert_eq!(crate::bench::audio_bytes(&out), crate::bench::audio_bytes(&alone));
    assert_eq!(out.facts().loops, facts.loops);
    folder.fit(&clip, "wav pcm16 any any");
    let cut = folder.open(&riff.bytes()[..3_000]).unwrap();
    assert!(matches!(cut.facts().notes[..], [Note::Truncated { .. }]), "{:?}", cut.facts().notes);
}

/// W64 as others write it: names that WAV has not, sizes that a stream could not know, what was cut.
#[test]
fn w64_of_others() {
    let folder = Folder::new();
    let rest = b"\xF3\xAC\xD3\x11\x8C\xD1\0\xC0\x4F\x8E\xDB\x8A";
    let chunk = |id: &[u8; 4], rest: &[u8], size: u64, contents: &[u8]| {
        let filled = contents.len().next_multiple_of(8) - contents.len();
        [id, rest, &size.to_le_bytes(), contents, &vec![0; filled]].concat()
    };
    let file = |size: u64, chunks: &[Vec<u8>]| {
        let head = [
            b"riff\x2E\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0",
            &size.to_le_bytes()[..],
            b"wave",
            rest,
        ];
        [head.concat(), chunks.concat()].concat()
    };
    let fmt = chunk(b"fmt ", rest, 40, &fmt(1, 1, 8000, 16));
    let list = chunk(b"list", b"\x2F\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0", 24 + 5, b"texts");
    let sound: Vec<u8> = (0..50).collect();
    let data = |size| chunk(b"data", rest, size, &sound);
    for (name, bytes, frames, note) in [
        ("whole", file(0, &[fmt.clone(), list.clone(), data(74)]), 25, None),
        ("of a stream", file(0, &[fmt.clone(), data(0)]), 28, Some(Note::LengthLeftOpen)),
        (
            "cut short",
            file(184, &[fmt.clone(), data(24 + 200)]),
            28,
            Some(Note::Truncated { promised: 100, held: 28 }),
        ),
    ] {
        let clip = folder.open(&bytes).unwrap();
        let facts = clip.facts();
        assert_eq!(
            (facts.format.to_string().as_str(), facts.frames),
            ("w64 pcm16 8000 mono", frames),
            "{name}"
        );
        assert_eq!(facts.notes.first(), note.as_ref(), "{name}: {:?}", facts.notes);
        assert_eq!(samples(&clip)[0][1], f64::from(0x0302) / 32_768.0, "{name}");
    }
    // Blocks without end, in both forms of 64 bits.
    let mut blocks = crate::bench::fmt(0x11, 1, 8000, 4);
    blocks[12..14].copy_from_slice(&256u16.to_le_bytes());
    blocks.extend([2, 0, 0xF9, 1]);
    let endless = file(0, &[chunk(b"fmt ", rest, 44, &blocks), data(u64::MAX)]);
    let ds64 = [[0xFF; 24].as_slice(), &[0; 4]].concat();
    let riff = Riff { form: b"RF64", size: Some(u32::MAX), ..Riff::new() };
    let riff = riff.chunk(b"ds64", &ds64).chunk(b"fmt ", &blocks).lying(b"data", u32::MAX, &sound);
    for bytes in [endless, riff.bytes()] {
        assert!(matches!(folder.open(&bytes).unwrap().facts().notes[0], Note::Truncated { .. }));
    }
    for (name, bytes) in [
        ("no format", file(0, &[data(74)])),
        ("a size that leads back", file(0, &[chunk(b"fmt ", rest, 3, b"")])),
        ("nothing", file(0, &[])[..30].to_vec()),
    ] {
        assert!(
            matches!(folder.open(&bytes), Err(Error::Malformed { format: "WAV", .. })),
            "{name}"
        );
    }
}
