//! What readers make of headers, good and bad: a row a file, made by hand after each format's own document.

use crate::bench::{Folder, Riff, boxed, fmt, samples};
use deft_needle_audio::clip::Direction;
use deft_needle_audio::clip::Note;
use deft_needle_audio::{Clip, Error, Facts};

fn found(folder: &Folder, bytes: &[u8]) -> Result<Clip, Error> {
    folder.open(bytes)
}

/// What is said of a file that cannot be read.
fn said(error: &Error) -> String {
    match error {
        Error::Malformed { format, what, offset, .. } => format!("{format}: {what} @{offset}"),
        Error::Unsupported { what, .. } => format!("unsupported: {what}"),
        Error::Unknown { what, .. } => format!("unknown: {what}"),
        other => format!("{other:?}"),
    }
}

fn refused(folder: &Folder, name: &str, bytes: &[u8], want: &str) {
    match found(folder, bytes) {
        Err(error) => assert_eq!(said(&error), want, "{name}"),
        Ok(clip) => panic!("{name} is read as {:?}", clip.facts()),
    }
}

fn facts(folder: &Folder, name: &str, bytes: &[u8]) -> Facts {
    found(folder, bytes).unwrap_or_else(|error| panic!("{name}: {}", said(&error))).facts().clone()
}

fn be(n: u32) -> [u8; 4] {
    n.to_be_bytes()
}

fn au(offset: u32, bytes: u32, encoding: u32, rate: u32, channels: u32, rest: &[u8]) -> Vec<u8> {
    let words = [offset, bytes, encoding, rate, channels].map(be).concat();
    [b".snd", &words[..], rest].concat()
}

#[test]
fn au_headers() {
    let folder = Folder::new();
    for (encoding, spec) in [
        (1, "mulaw"),
        (2, "pcm8"),
        (3, "pcm16"),
        (4, "pcm24"),
        (5, "pcm32"),
        (6, "f32"),
        (7, "f64"),
        (27, "alaw"),
    ] {
        let facts = facts(&folder, spec, &au(28, 48, encoding, 8_000, 1, &[0; 52]));
        let width = facts.format.encoding.codec.sample_bytes().unwrap();
        assert_eq!(facts.format.to_string().split(' ').nth(1), Some(spec));
        assert_eq!((facts.frames, facts.audio_bytes), (48 / u64::from(width), 48), "{spec}");
        assert!(facts.extras.is_empty() && facts.notes.is_empty(), "{spec}: {facts:?}");
    }
    let open = facts(&folder, "open", &au(28, u32::MAX, 3, 8_000, 2, &[0; 4 + 40]));
    assert_eq!((open.frames, &open.notes[..]), (10, &[Note::LengthLeftOpen][..]));
    let cut = facts(&folder, "cut", &au(28, 400, 3, 8_000, 2, &[0; 4 + 40]));
    assert_eq!(cut.notes, [Note::Truncated { promised: 100, held: 10 }]);
    let text = facts(&folder, "text", &au(32, 4, 3, 8_000, 1, b"Kettle\0\0\0\0\0\0"));
    assert_eq!((text.extras[0].id.as_str(), text.extras[0].bytes), ("annotation", 8));
    for (name, bytes, want) in [
        (
            "an unknown encoding",
            au(28, 4, 8, 8_000, 1, &[0; 8]),
            "unsupported: AU with encoding number 8",
        ),
        ("rate 0", au(28, 4, 3, 0, 1, &[0; 8]), "AU: its sample rate is 0 or beyond 1.536 MHz @16"),
        (
            "a rate beyond all",
            au(28, 4, 3, u32::MAX, 1, &[0; 8]),
            "AU: its sample rate is 0 or beyond 1.536 MHz @16",
        ),
        ("no channels", au(28, 4, 3, 8_000, 0, &[0; 8]), "AU: it has 0 channels @20"),
        (
            "many channels",
            au(28, 4, 3, 8_000, 99, &[0; 8]),
            "unsupported: 99 channels (32 are the most)",
        ),
        (
            "samples in the header",
            au(12, 4, 3, 8_000, 1, &[0; 8]),
            "AU: its samples begin within its header @4",
        ),
        ("short", au(28, 4, 3, 8_000, 1, &[])[..14].to_vec(), "AU: it ends within its header @0"),
    ] {
        refused(&folder, name, &bytes, want);
    }
}

/// The 80 bits of a rate that is a whole number.
fn extended(rate: u32) -> [u8; 10] {
    let shift = rate.leading_zeros();
    let mut bytes = [0; 10];
    bytes[..2].copy_from_slice(&(16_383u16 + 31 - shift as u16).to_be_bytes());
    bytes[2..6].copy_from_slice(&(rate << shift).to_be_bytes());
    bytes
}

fn comm(channels: u16, frames: u32, bits: u16, rate: u32, kind: &[u8]) -> Vec<u8> {
    let head = [&channels.to_be_bytes()[..], &be(frames), &bits.to_be_bytes(), &extended(rate)];
    boxed(b"COMM", &[&head.concat()[..], kind].concat())
}

fn form(kind: &[u8; 4], chunks: &[Vec<u8>]) -> Vec<u8> {
    let mut body = kind.to_vec();
    // A box of MPEG-4 counts its own head, a chunk of IFF does not.
    for chunk in chunks {
        let length = chunk.len() as u32 - 8;
        body.extend([&chunk[4..8], &be(length), &chunk[8..]].concat());
        if length % 2 == 1 {
            body.push(0);
        }
    }
    [b"FORM", &be(body.len() as u32)[..], &body].concat()
}

fn sound(bytes: usize) -> Vec<u8> {
    boxed(b"SSND", &vec![0; 8 + bytes])
}

#[test]
fn aiff_chunks() {
    let folder = Folder::new();
    for (kind, bits, spec) in [
        (&b""[..], 8, "aiff pcm8 8000 mono"),
        (b"", 12, "aiff pcm16 8000 mono"),
        (b"", 20, "aiff pcm24 8000 mono"),
        (b"NONE", 16, "aifc pcm16be 8000 mono"),
        (b"twos", 24, "aifc pcm24be 8000 mono"),
        (b"sowt", 16, "aifc pcm16le 8000 mono"),
        (b"fl32", 32, "aifc f32be 8000 mono"),
        (b"FL64", 64, "aifc f64be 8000 mono"),
        (b"ulaw", 16, "aifc mulaw 8000 mono"),
        (b"ALAW", 16, "aifc alaw 8000 mono"),
    ] {
        let form_kind = if kind.is_empty() { b"AIFF" } else { b"AIFC" };
        let bytes = form(form_kind, &[comm(1, 4, bits, 8_000, kind), sound(32)]);
        let facts = facts(&folder, spec, &bytes);
        assert_eq!((facts.format.to_string().as_str(), facts.frames), (spec, 4));
        let partly = matches!(bits, 12 | 20).then_some(bits);
        assert_eq!(facts.valid_bits, partly, "{spec}");
    }
    let plain = |frames, bytes| form(b"AIFF", &[comm(1, frames, 16, 8_000, b""), sound(bytes)]);
    let cut = facts(&folder, "cut", &plain(100, 40));
    assert_eq!(cut.notes, [Note::Truncated { promised: 100, held: 20 }]);
    let more = facts(&folder, "more", &plain(10, 40));
    assert!(
        more.frames == 10 && more.notes[0].to_string().contains("10 frames after the 10"),
        "{:?}",
        more.notes
    );
    let empty = facts(&folder, "empty", &form(b"AIFF", &[comm(1, 0, 16, 8_000, b"")]));
    assert_eq!(empty.frames, 0);

    // Two markers that the instrument names are a loop, a third is a marker.
    let mark = |id: u16, at: u32, name: &[u8]| {
        let mut bytes = [&id.to_be_bytes()[..], &be(at), &[name.len() as u8], name].concat();
        if name.len().is_multiple_of(2) {
            bytes.push(0);
        }
        bytes
    };
    let marks =
        [&3u16.to_be_bytes()[..], &mark(1, 2, b"a"), &mark(2, 8, b"bc"), &mark(7, 5, b"here")]
            .concat();
    let inst = |mode: u16, start: u16, end: u16| {
        let points = [mode, start, end].map(u16::to_be_bytes).concat();
        boxed(b"INST", &[&[0; 8][..], &points, &[0; 6]].concat())
    };
    let with = |inst: Vec<u8>| {
        let chunks = [comm(1, 10, 16, 8_000, b""), boxed(b"MARK", &marks), inst, sound(20)];
        facts(&folder, "loop", &form(b"AIFF", &chunks))
    };
    let looped = with(inst(1, 1, 2));
    assert_eq!(
        looped.loops.iter().map(|l| (l.range.start, l.range.end)).collect::<Vec<_>>(),
        [(2, 8)]
    );
    assert_eq!(
        looped.markers.iter().map(|m| (m.frame, m.name.as_str())).collect::<Vec<_>>(),
        [(5, "here")]
    );
    let ping_pong = with(inst(2, 1, 2));
    assert!(ping_pong.loops[0].direction == Direction::PingPong && ping_pong.notes.is_empty());
    let lost = with(inst(1, 1, 9));
    assert!(
        lost.loops.is_empty() && lost.notes[0].to_string().contains("outside the clip"),
        "{:?}",
        lost.notes
    );

    for (name, bytes, want) in [
        ("no COMM", form(b"AIFF", &[sound(4)]), "AIFF: it has no \"COMM\" chunk @12"),
        (
            "no SSND",
            form(b"AIFF", &[comm(1, 4, 16, 8_000, b"")]),
            "AIFF: it has no \"SSND\" chunk @12",
        ),
        (
            "no bits",
            form(b"AIFF", &[comm(1, 4, 0, 8_000, b""), sound(8)]),
            "AIFF: it says 0 bits a sample @20",
        ),
        (
            "many bits",
            form(b"AIFF", &[comm(1, 4, 48, 8_000, b""), sound(8)]),
            "AIFF: it says 48 bits a sample @20",
        ),
        (
            "no channels",
            form(b"AIFF", &[comm(0, 4, 16, 8_000, b""), sound(8)]),
            "AIFF: it has 0 channels @20",
        ),
        (
            "rate 0",
            form(
                b"AIFF",
                &[
                    boxed(b"COMM", &[0, 1, 0, 0, 0, 4, 0, 16, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]),
                    sound(8),
                ],
            ),
            "AIFF: its sample rate is 0 @20",
        ),
        (
            "gsm",
            form(b"AIFC", &[comm(1, 4, 16, 8_000, b"GSM "), sound(33)]),
            "unsupported: AIFF-C with GSM 6.10",
        ),
        (
            "strange",
            form(b"AIFC", &[comm(1, 4, 16, 8_000, b"QDM2"), sound(34)]),
            "unsupported: AIFF-C of type \"QDM2\"",
        ),
        (
            "COMM cut",
            form(b"AIFF", &[boxed(b"COMM", &[0, 1, 0, 0]), sound(8)]),
            "AIFF: its \"COMM\" chunk is too short @20",
        ),
    ] {
        refused(&folder, name, &bytes, want);
    }
}

fn caf(chunks: &[(&[u8; 4], Vec<u8>)]) -> Vec<u8> {
    let mut bytes = b"caff\0\x01\0\0".to_vec();
    for (id, contents) in chunks {
        bytes.extend([&id[..], &(contents.len() as u64).to_be_bytes(), contents].concat());
    }
    bytes
}

fn desc(
    rate: f64,
    kind: &[u8; 4],
    flags: u32,
    packet: u32,
    channels: u32,
    bits: u32,
) -> (&'static [u8; 4], Vec<u8>) {
    let words = [flags, packet, 1, channels, bits].map(be).concat();
    (b"desc", [&rate.to_bits().to_be_bytes()[..], kind, &words].concat())
}

fn data(bytes: usize) -> (&'static [u8; 4], Vec<u8>) {
    (b"data", vec![0; 4 + bytes])
}

#[test]
fn caf_chunks() {
    let folder = Folder::new();
    for (kind, flags, bits, spec) in [
        (b"lpcm", 0, 8, "caf pcm8 8000 stereo"),
        (b"lpcm", 0, 16, "caf pcm16be 8000 stereo"),
        (b"lpcm", 2, 16, "caf pcm16le 8000 stereo"),
        (b"lpcm", 2, 24, "caf pcm24le 8000 stereo"),
        (b"lpcm", 1, 32, "caf f32be 8000 stereo"),
        (b"lpcm", 3, 64, "caf f64le 8000 stereo"),
        (b"ulaw", 0, 8, "caf mulaw 8000 stereo"),
        (b"alaw", 0, 8, "caf alaw 8000 stereo"),
    ] {
        let frame = bits / 4;
        let bytes = caf(&[desc(8_000.0, kind, flags, frame, 2, bits), data(10 * frame as usize)]);
        let facts = facts(&folder, spec, &bytes);
        assert_eq!((facts.format.to_string().as_str(), facts.frames), (spec, 10));
        assert!(facts.notes.is_empty(), "{spec}: {:?}", facts.notes);
    }
    let whole = caf(&[
        desc(8_000.0, b"lpcm", 2, 2, 1, 16),
        (b"info", b"\0\0\0\x01title\0Kettle\0".to_vec()),
        data(40),
    ]);
    let tagged = facts(&folder, "info", &whole);
    assert_eq!((tagged.tags[0].name.as_str(), tagged.tags[0].value.as_str()), ("TITLE", "Kettle"));
    let mut marker = [&be(1)[..], &be(0), &be(0), &7f64.to_bits().to_be_bytes()].concat();
    marker.extend([0; 16]);
    let marked = facts(
        &folder,
        "mark",
        &caf(&[desc(8_000.0, b"lpcm", 2, 2, 1, 16), (b"mark", marker), data(40)]),
    );
    assert_eq!(marked.markers[0].frame, 7);
    let mut open = whole.clone();
    let size = open.windows(4).position(|w| w == b"data").unwrap() + 4;
    open[size..size + 8].fill(0xFF);
    assert_eq!(facts(&folder, "open", &open).notes, [Note::LengthLeftOpen]);
    let cut = facts(&folder, "cut", &whole[..whole.len() - 20]);
    assert_eq!(cut.notes, [Note::Truncated { promised: 20, held: 10 }]);
    for (name, bytes, want) in [
        ("no desc", caf(&[data(4)]), "CAF: it has no \"desc\" chunk @8"),
        (
            "no data",
            caf(&[desc(8_000.0, b"lpcm", 0, 2, 1, 16)]),
            "CAF: it has no \"data\" chunk @8",
        ),
        (
            "odd bits",
            caf(&[desc(8_000.0, b"lpcm", 0, 3, 1, 20), data(6)]),
            "unsupported: CAF with PCM of 20 bits",
        ),
        (
            "strange",
            caf(&[desc(8_000.0, b"QDM2", 0, 2, 1, 16), data(6)]),
            "unsupported: CAF of type \"QDM2\"",
        ),
        (
            "no rate",
            caf(&[desc(0.0, b"lpcm", 0, 2, 1, 16), data(6)]),
            "CAF: its sample rate is 0 @20",
        ),
        (
            "not a rate",
            caf(&[desc(f64::NAN, b"lpcm", 0, 2, 1, 16), data(6)]),
            "CAF: its sample rate is NaN @20",
        ),
        (
            "no channels",
            caf(&[desc(8_000.0, b"lpcm", 0, 2, 0, 16), data(6)]),
            "CAF: it has 0 channels @44",
        ),
        (
            "packets without a table",
            caf(&[desc(8_000.0, b"alac", 0, 0, 1, 16), data(6)]),
            "CAF: it has no \"pakt\" chunk @8",
        ),
        (
            "desc cut",
            caf(&[(b"desc", vec![0; 8]), data(6)]),
            "CAF: its \"desc\" chunk is too short @8",
        ),
    ] {
        refused(&folder, name, &bytes, want);
    }
}

fn stream_info(rate: u32, channels: u32, bits: u32, frames: u64) -> Vec<u8> {
    let packed =
        u64::from(rate) << 44 | u64::from(channels - 1) << 41 | u64::from(bits - 1) << 36 | frames;
    [&[0x10, 0, 0x10, 0][..], &[0; 6], &packed.to_be_bytes(), &[0; 16]].concat()
}

fn flac(blocks: &[(u8, Vec<u8>)]) -> Vec<u8> {
    let mut bytes = b"fLaC".to_vec();
    for (at, (kind, contents)) in blocks.iter().enumerate() {
        let last = if at + 1 == blocks.len() { 0x80 } else { 0 };
        bytes.extend([&[kind | last][..], &be(contents.len() as u32)[1..], contents].concat());
    }
    bytes
}

#[test]
fn flac_metadata() {
    let folder = Folder::new();
    for (channels, name) in
        [(1, "mono"), (2, "stereo"), (3, "3ch"), (4, "quad"), (6, "5.1"), (8, "7.1")]
    {
        let facts = facts(&folder, name, &flac(&[(0, stream_info(44_100, channels, 16, 0))]));
        assert_eq!(facts.format.to_string(), format!("flac flac16 44100 {name}"));
        assert_eq!((facts.frames, facts.valid_bits), (0, None));
    }
    let twenty = facts(&folder, "20 bits", &flac(&[(0, stream_info(48_000, 1, 20, 0))]));
    assert_eq!(
        (twenty.format.to_string().as_str(), twenty.valid_bits),
        ("flac flac24 48000 mono", Some(20))
    );
    let promised = facts(&folder, "no frames", &flac(&[(0, stream_info(48_000, 1, 16, 500))]));
    assert_eq!(promised.notes, [Note::Truncated { promised: 500, held: 0 }]);
    let texts = b"\x01\0\0\0x\x03\0\0\0\x0B\0\0\0TITLE=Quay!\x0D\0\0\0LOOPSTART=100\x0E\0\0\0LOOPLENGTH=400";
    let tagged = flac(&[(0, stream_info(48_000, 1, 16, 0)), (4, texts.to_vec()), (6, vec![0; 9])]);
    let tagged = facts(&folder, "texts", &tagged);
    assert_eq!(
        tagged.tags.len(),
        1,
        "a loop that lies outside is no text either: {:?}",
        tagged.tags
    );
    assert_eq!(
        tagged.extras.iter().map(|e| e.id.as_str()).collect::<Vec<_>>(),
        ["VORBIS_COMMENT", "PICTURE"]
    );
    for (name, bytes, want) in [
        ("no STREAMINFO", flac(&[(4, vec![0; 8])]), "FLAC: it has no STREAMINFO @4"),
        ("a short one", flac(&[(0, vec![0; 12])]), "FLAC: it has no STREAMINFO @4"),
        (
            "rate 0",
            flac(&[(0, stream_info(0, 1, 16, 0))]),
            "FLAC: its sample rate is 0 or beyond 1.536 MHz @18",
        ),
        ("32 bits", flac(&[(0, stream_info(48_000, 1, 32, 0))]), "unsupported: FLAC of 32 bits"),
        ("cut", b"fLaC\0\0".to_vec(), "FLAC: it ends within its metadata @4"),
    ] {
        refused(&folder, name, &bytes, want);
    }
}

#[test]
fn qoa_mp4_ogg_and_matroska_heads() {
    let folder = Folder::new();
    let qoa = |frames: u32, channels: u8, rate: u32, held: u16| {
        let rate = be(rate);
        let head = [&[channels][..], &rate[1..], &held.to_be_bytes(), &[0, 0]].concat();
        [&b"qoaf"[..], &be(frames), &head, &[0; 24]].concat()
    };
    let short = facts(&folder, "qoa", &qoa(20, 1, 44_100, 20));
    assert_eq!((short.frames, short.format.to_string().as_str()), (20, "qoa qoa 44100 mono"));
    assert_eq!(facts(&folder, "qoa open", &qoa(0, 1, 44_100, 20)).notes, [Note::LengthLeftOpen]);
    let ogg = |packet: &[u8]| {
        let mut page = [
            &b"OggS\0\x02"[..],
            &[0; 8],
            &7u32.to_le_bytes(),
            &[0; 8],
            &[1, packet.len() as u8],
            packet,
        ]
        .concat();
        let sum = crc_of_ogg(&page).to_le_bytes();
        page[22..26].copy_from_slice(&sum);
        page
    };
    let moov = |inner: &[u8]| [boxed(b"ftyp", b"M4A \0\0\0\0"), boxed(b"moov", inner)].concat();
    let hdlr = |kind: &[u8]| boxed(b"hdlr", &[&[0; 8][..], kind, &[0; 12]].concat());
    let track = |kind: &[u8], more: &[u8]| {
        boxed(b"trak", &boxed(b"mdia", &[&hdlr(kind)[..], more].concat()))
    };
    for (name, bytes, want) in [
        (
            "qoa without channels",
            qoa(20, 0, 44_100, 20),
            "QOA: it has no channels, or more than 8 @8",
        ),
        ("qoa at rate 0", qoa(20, 1, 0, 20), "QOA: its sample rate is 0 or beyond 1.536 MHz @9"),
        ("qoa cut", b"qoaf\0\0\0\x14".to_vec(), "QOA: it ends within its first frame's header @0"),
        ("ogg with flac", ogg(b"\x7FFLAC\x01\0"), "Ogg: it ends within its headers @0"),
        ("ogg with speex", ogg(b"Speex   1.2"), "unsupported: Ogg with Speex"),
        (
            "ogg of a strange kind",
            ogg(b"\x01mystery"),
            "unsupported: Ogg with a stream of an unknown kind",
        ),
        ("ogg that ends early", ogg(b"OpusHead"), "Ogg: it ends within its headers @0"),
        (
            "ogg without a page",
            b"OggS\0\x02 and no more".to_vec(),
            "Ogg: it holds no whole page @0",
        ),
        (
            "mp4 without moov",
            boxed(b"ftyp", b"M4A \0\0\0\0"),
            "MPEG-4: it has no \"moov\": it was never finished, or its end is missing @0",
        ),
        (
            "mp4 of a film alone",
            moov(&track(b"vide", b"")),
            "unsupported: MPEG-4 without a sound track",
        ),
        (
            "mp4 in fragments",
            moov(&boxed(b"mvex", b"")),
            "unsupported: MPEG-4 without a sound track",
        ),
        (
            "mp4 without tables",
            moov(&track(b"soun", b"")),
            "MPEG-4: its sound track lacks \"stbl\" @24",
        ),
        (
            "mp3 of tags alone",
            b"ID3\x04\0\0\0\0\0\0".to_vec(),
            "MP3: no frame of layer III follows its tags @10",
        ),
        (
            "midi",
            b"MThd\0\0\0\x06".to_vec(),
            "unknown: it looks like a MIDI file: notes, not audio",
        ),
        ("a page", b"<html>".to_vec(), "unknown: it looks like a page or other text with tags"),
        ("nothing", Vec::new(), "unknown: it is empty"),
        (
            "riff of another form",
            b"RIFF\x04\0\0\0AVI ".to_vec(),
            "unknown: it is a RIFF file, but not a WAV",
        ),
    ] {
        refused(&folder, name, &bytes, want);
    }
    let mkv = found(&folder, b"\x1A\x45\xDF\xA3\x80and nothing").unwrap_err();
    assert!(matches!(mkv, Error::Malformed { format: "Matroska", .. }), "{mkv:?}");
}

/// RFC 3533, 6: the polynomial 0x04C11DB7, most significant bit first, nothing inverted.
fn crc_of_ogg(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0u32, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte) << 24, |crc, _| match crc >> 31 {
            1 => crc << 1 ^ 0x04C1_1DB7,
            _ => crc << 1,
        })
    })
}

/// One block of Microsoft's ADPCM, decoded as the "Multimedia Data Standards Update" (1994) says, for one channel.
fn ms_block(block: &[u8]) -> Vec<i32> {
    const ADAPT: [i32; 16] =
        [230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230];
    const PAIRS: [(i32, i32); 7] =
        [(256, 0), (512, -256), (0, 0), (192, 64), (240, 0), (460, -208), (392, -232)];
    let half = |at: usize| i32::from(i16::from_le_bytes([block[at], block[at + 1]]));
    let (first, second) = PAIRS[usize::from(block[0])];
    let (mut delta, mut one, mut two) = (half(1), half(3), half(5));
    let mut out = vec![two, one];
    for nibble in block[7..].iter().flat_map(|byte| [byte >> 4, byte & 15]) {
        let signed = i32::from(nibble) - if nibble > 7 { 16 } else { 0 };
        // Divided by shifting, as every decoder does.
        let sample = (((one * first + two * second) >> 8) + signed * delta).clamp(-32_768, 32_767);
        (two, one) = (one, sample);
        delta = (ADAPT[usize::from(nibble)] * delta / 256).max(16);
        out.push(sample);
    }
    out
}

#[test]
fn microsoft_adpcm_against_its_document() {
    let folder = Folder::new();
    let mut state = 7u32;
    let mut random = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 24) as u8
    };
    const BLOCK: usize = 70;
    let frames = 2 + 2 * (BLOCK - 7);
    for predictor in 0..7u8 {
        let mut data = Vec::new();
        let mut want = Vec::new();
        for _ in 0..5 {
            let mut block = vec![predictor, 40, 0, random(), random() / 4, random(), random() / 4];
            // Small steps, so that the step size stays within what a 16-bit number holds.
            const NIBBLES: [u8; 8] = [0, 1, 2, 3, 13, 14, 15, 4];
            let mut nibble = || NIBBLES[usize::from(random() & 7)];
            let bytes: Vec<u8> = (7..BLOCK).map(|_| nibble() << 4 | nibble()).collect();
            block.extend(bytes);
            want.extend(ms_block(&block));
            data.extend(block);
        }
        let mut head = fmt(2, 1, 22_050, 4);
        head[12..14].copy_from_slice(&(BLOCK as u16).to_le_bytes());
        head.extend(32u16.to_le_bytes());
        head.extend((frames as u16).to_le_bytes());
        head.extend(7u16.to_le_bytes());
        for (a, b) in
            [(256i16, 0i16), (512, -256), (0, 0), (192, 64), (240, 0), (460, -208), (392, -232)]
        {
            head.extend([a.to_le_bytes(), b.to_le_bytes()].concat());
        }
        let wav = Riff::new().chunk(b"fmt ", &head).chunk(b"data", &data).bytes();
        let clip = found(&folder, &wav).unwrap();
        assert_eq!(clip.facts().frames, (5 * frames) as u64);
        let decoded: Vec<i32> =
            samples(&clip)[0].iter().map(|s| (s * 32_768.0).round() as i32).collect();
        assert_eq!(decoded, want, "predictor {predictor}");
    }
}

/// A file that holds nothing of what it promises is one error, and not a crash, wherever it is cut.
#[test]
fn headers_cut_anywhere_are_read_or_refused() {
    let folder = Folder::new();
    let files = [
        au(28, 48, 3, 8_000, 1, &[0; 52]),
        form(b"AIFC", &[comm(2, 4, 16, 8_000, b"sowt"), boxed(b"NAME", b"Kettle"), sound(16)]),
        caf(&[
            desc(8_000.0, b"lpcm", 2, 2, 1, 16),
            (b"info", b"\0\0\0\x01a\0b\0".to_vec()),
            data(40),
        ]),
        flac(&[(0, stream_info(44_100, 2, 16, 4)), (4, vec![0; 8])]),
        Riff::new().fmt(1, 2, 8_000, 16).chunk(b"smpl", &[1; 60]).chunk(b"data", &[0; 16]).bytes(),
    ];
    for file in files {
        let whole = found(&folder, &file).unwrap().facts().frames;
        for at in 0..file.len() {
            if let Ok(clip) = found(&folder, &file[..at]) {
                assert!(clip.facts().frames <= whole.max(8), "at {at}: {:?}", clip.facts());
                let frames = samples(&clip)[0].len() as u64;
                assert_eq!(frames, clip.facts().frames, "at {at}");
            }
        }
    }
}
