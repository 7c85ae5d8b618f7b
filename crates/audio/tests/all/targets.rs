//! What a clip becomes where a spec leaves something open, and what is refused.

use crate::bench::{Folder, demand};
use deft_needle_audio::plan::plan;
use deft_needle_audio::spec::Demand;
use deft_needle_audio::{Error, Facts};

/// Where a spec leaves something open, the clip's own value stays, else the next that fits.
#[test]
fn where_each_spec_leads() {
    for (own, spec, want) in [
        ("wav pcm16 44100 stereo", "flac any any any", "flac flac16 44100 stereo"),
        ("wav pcm8 44100 stereo", "flac any any any", "flac flac16 44100 stereo"),
        ("wav f32 44100 stereo", "flac any any any", "flac flac24 44100 stereo"),
        ("wav f32 44100 stereo", "aiff any any any", "aiff pcm24 44100 stereo"),
        ("wav pcm16 44100 stereo", "any vorbis any any", "ogg vorbis 44100 stereo"),
        ("wav pcm16 44100 stereo", "ogg|wav vorbis|pcm16 48000 any", "wav pcm16 48000 stereo"),
        ("wav pcm16 44100 stereo", "m4a any any any", "m4a aac 44100 stereo"),
        ("m4a alac16 44100 stereo", "m4a any any mono", "m4a alac16 44100 mono"),
        ("mp3 mp3 44100 stereo", "any any 48000 any", "mp3 mp3 48000 stereo"),
        ("mkv opus 48000 stereo", "any any 44100 any", "wav pcm16 44100 stereo"),
        ("mp4 aac 44100 stereo", "any any any mono", "m4a aac 44100 mono"),
        ("au mulaw 8000 mono", "any any 16000 any", "au mulaw 16000 mono"),
        ("wav pcm16 44100 6ch", "ogg opus any 6ch", "ogg opus 48000 6ch"),
        ("wav pcm16 44100 6ch", "ogg opus any 5.1", "ogg opus 48000 5.1"),
        ("aifc pcm16le 44100 mono", "wav any any any", "wav pcm16 44100 mono"),
        ("aifc pcm16le 44100 mono", "any any 48000 any", "aifc pcm16le 48000 mono"),
        ("wav pcm24 44100 mono", "aifc any any any", "aifc pcm24be 44100 mono"),
        ("wav pcm16 44100 mono", "raw any any any", "raw pcm16le 44100 mono"),
        ("wav pcm24 48000 5.1", "qoa any any any", "qoa qoa 48000 6ch"),
        ("wav pcm16 48000 6ch", "ogg any any any", "ogg vorbis 48000 5.1"),
    ] {
        let facts = Facts { frames: 100, ..Facts::new(own.parse().unwrap(), 1000) };
        let found = plan(&facts, &demand(spec)).unwrap_or_else(|e| panic!("{own}, {spec}: {e}"));
        assert_eq!(found.to.format.to_string(), want, "{own}, {spec}");
    }
}

#[test]
fn what_cannot_be_encoded_names_the_nearest() {
    let folder = Folder::new();
    let clip = folder.make("wav pcm16 37800 5.1", 100);
    for (line, part) in [
        ("m4a aac 37800 stereo", "nearest: 32000"),
        ("m4a aac any any", "most: 2, channels: 6"),
        ("ogg vorbis:600k 8000 mono", "nearest: Some"),
        ("ogg vorbis:q12 44100 mono", "least: -1, most: 10"),
        ("m4a aac:4k 44100 mono", "nearest: Some(8)"),
        ("mp3 mp3:100k 44100 mono", "nearest: Some(96)"),
        ("mp3 mp3:320k 22050 mono", "nearest: Some(160)"),
        ("mp3 mp3 any mono", "nearest: 32000"),
    ] {
        match plan(clip.facts(), &demand(line)) {
            Err(Error::CannotMeet(unmet)) => {
                let found = format!("{unmet:?}");
                assert!(found.contains(part), "{line}: {found}");
            }
            other => panic!("{line}: {other:?}"),
        }
    }
    let odd = Demand {
        header: Some(deft_needle_audio::spec::Header::Extensible),
        ..demand("wav imaadpcm 22050 mono")
    };
    assert!(matches!(plan(clip.facts(), &odd), Err(Error::CannotMeet(_))));
    assert!(matches!(plan(clip.facts(), &demand("mkv any any any")), Err(Error::CannotMeet(_))));
    for line in ["ogg pcm16 any any", "wav vorbis any any", "wav pcm16be any any"] {
        assert!(matches!(plan(clip.facts(), &demand(line)), Err(Error::BadSpec { .. })), "{line}");
    }
}
