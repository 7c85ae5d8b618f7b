//! What the libraries find and decide, in words: every kind once, with its values and its way out.

use super::{notice, plan, unmet};
use deft_needle_audio::Unmet;
use deft_needle_audio::clip::Direction;
use deft_needle_audio::edit::LevelGoal;
use deft_needle_audio::measure::Measure;
use deft_needle_audio::plan::{
    CutReason, Decision, DepthReason, FoundSeam, HeaderReason, LeftOut, Levelling, LoopReason,
    Stretch,
};
use deft_needle_audio::seam::Verdict;
use deft_needle_audio::shape::quantise::Dither;
use deft_needle_audio::shape::route::{Fold, Law, Route};
use deft_needle_audio::shape::separate::Keep;
use deft_needle_audio::spec::Header;
use deft_needle_audio::units::FrameRange;
use deft_needle_core::run::Notice;

fn s(text: &str) -> String {
    text.to_owned()
}

#[test]
fn what_a_clip_cannot_become() {
    for (wanted, want) in [
        (
            Unmet::RangeOutside { range: s("1s..9s"), seconds: 2.0, frames: 96_000 },
            "the range 1s..9s lies outside the clip, which is 2.000 s long (96000 frames) | choose a range within the clip",
        ),
        (
            Unmet::PlaceOutside { place: s("9s"), seconds: 2.0 },
            "9s lies outside the clip, which is 2.000 s long | choose a place within the clip",
        ),
        (
            Unmet::NoSuchPiece { piece: 4, sounds: 2 },
            "there is no segment 4: the clip has 2 sounds between silences | inspect numbers them",
        ),
        (Unmet::NothingLeft, "nothing is left of the clip | choose another range"),
        (
            Unmet::AllSilent { below: -60.0 },
            "all of the clip is below -60 dBFS | choose a lower level, as in --trim-silence=-80dBFS",
        ),
        (
            Unmet::TooLong { seconds: 7.5, longest: 6.0 },
            "the result would last 7.500 s, and 6.000 s is the longest that is allowed | add --too-long cut or --too-long loudest, shorten it with --fit-length 6s, or choose a part with --cut",
        ),
        (
            Unmet::TooLong { seconds: 75.0, longest: 6.0 },
            "the result would last 1:15.0, and 6.000 s is the longest that is allowed | add --too-long cut or --too-long loudest, or choose a part with --cut",
        ),
        (
            Unmet::StretchTooFar { from: 2.0, to: 9.0, least: 0.5, most: 8.0 },
            "2.000 s cannot be stretched to 9.000 s: that is 4.50 times as long | ask for 0.500 s to 8.000 s, or choose another part with --cut",
        ),
        (
            Unmet::TurnsBack { direction: s("ping-pong") },
            "a ping-pong loop turns back at its ends and has no seam | leave --crossfade, --loop-snap and --tail wrap out, or add --loop-direction forward",
        ),
        (
            Unmet::NoLoopToPlay { direction: s("backward") },
            "there is no loop to play backward | name one with --loop",
        ),
        (
            Unmet::TwoLengths,
            "both --stretch and --fit-length say how long it is to last | leave one of them out",
        ),
        (
            Unmet::LoopStretched,
            "a loop does not stay exact through time-stretching | leave --stretch and --fit-length out, or take the loop away with --loop none",
        ),
        (
            Unmet::RangeBackwards { range: s("2s..1s") },
            "the range 2s..1s ends before it starts | write the earlier place first",
        ),
        (
            Unmet::NothingAbove { low: 30_000.0, highest: 24_000.0 },
            "nothing is left above a low cut at 30000 Hz: the clip ends at 24000 Hz | ask for a lower --low-cut",
        ),
        (
            Unmet::NoLoopToWrap,
            "there is no loop that the tail could be folded into | name one with --loop",
        ),
        (
            Unmet::NothingBetween { low: 5000.0, high: 500.0 },
            "nothing is left between a low cut at 5000 Hz and a high cut at 500 Hz | ask for a lower --low-cut or a higher --high-cut",
        ),
        (
            Unmet::NoTexture { texture: 30.0, least: 0.2, most: 12.0 },
            "a texture of 30.0 s is too long for this clip: 12.0 s is the longest | ask for a shorter one, or give a longer clip",
        ),
        (
            Unmet::NoTexture { texture: 0.0, least: 0.2, most: 0.01 },
            "the clip is too short for a texture, which lasts 0.200 s at least | leave --texture out, or give a longer clip",
        ),
        (
            Unmet::NoTexture { texture: 0.05, least: 0.2, most: 12.0 },
            "a texture of 0.050 s is too short: 0.200 s is the shortest | ask for a longer one, or give a longer clip",
        ),
        (
            Unmet::TextureLoops { option: "crossfade" },
            "--texture makes a seamless loop of its own, and --crossfade asks for another | leave --texture or --crossfade out",
        ),
        (
            Unmet::NoTailToWrap,
            "there is no tail after the loop to wrap | end the loop before the sound dies away, or leave out --tail wrap",
        ),
        (
            Unmet::TailTooLong { tail: 3.0, most: 2.0 },
            "the tail is 3.000 s, and at most 2.000 s can be wrapped | cut the tail shorter with --cut ..END",
        ),
        (
            Unmet::NotStereo { channels: s("mono") },
            "only stereo can be separated, and the clip is mono | leave --keep out, or start from the stereo mix",
        ),
        (
            Unmet::NoUsualRoute { from: s("stereo"), to: s("3ch") },
            "there is no usual way from stereo channels to 3ch | ask for mono, or for as many channels as the clip has",
        ),
        (
            Unmet::RouteBeyondClip { channel: 3, channels: 2 },
            "the route uses channel 3, and the clip has 2 | use only channels that the clip has",
        ),
        (
            Unmet::RouteTooLong { most: 32 },
            "a route has 1 to 32 channels | write one expression for each output channel",
        ),
        (
            Unmet::RouteMismatch { makes: s("stereo"), wants: s("mono") },
            "the route makes stereo, and the target requires mono | write one expression for each channel that the target requires",
        ),
        (
            Unmet::RateNotConvertible { hertz: 999 },
            "a sample rate of 999 Hz cannot be converted | ask for a rate from 1000 to 384000 Hz",
        ),
        (
            Unmet::SilentClip,
            "the clip is silent: it has no level | leave --level out, or choose another part of the clip",
        ),
        (
            Unmet::SilentReference { path: "a.wav".into() },
            "a.wav is silent: nothing can be as loud | name a level, as in --level -16LUFS",
        ),
        (
            Unmet::NoStock,
            "there is no stock to match the level of | name a file, as in --level like:FILE, or a level, as in -16LUFS",
        ),
        (
            Unmet::NoLoopFound { seconds: 4.0 },
            "no loop was found in a clip of 4.000 s | look for a shorter one with `seam CLIP --shortest 1s`, set it with --loop, or for rain, engines and crowds add --texture",
        ),
        (
            Unmet::NoSuchLoop { range: FrameRange { start: 5, end: 6 }, frames: 100, least: 0.01 },
            "there is no loop from frame 5 up to 6 in a clip of 100 frames | a loop lasts 0.010 s at least",
        ),
        (Unmet::NoSoundAtSeam, "there is only silence around the seam | choose another loop"),
        (
            Unmet::NoLoopToSmooth,
            "there is no loop whose seam could be smoothed | name one with --loop, or add --cut seam for the whole file",
        ),
        (
            Unmet::LoopOutside { looped: [1.0, 2.0], used: [0.0, 1.5] },
            "the loop from 1.000 s to 2.000 s (1.000 s) lies outside the part that is used, from 0.000 s to 1.500 s (1.500 s) | choose a loop within it; times are the clip's own, before any cut",
        ),
        (
            Unmet::LoopNotUsed,
            "the loop lies outside the part that is used | choose a loop within it, or let the result be longer",
        ),
        (
            Unmet::CrossfadeWithTail,
            "a crossfade leads from the loop end back to its start, and the sound after the loop would click | add --tail cut",
        ),
        (
            Unmet::NoSuchLength { shortest: 20.0, longest: 12.0 },
            "no loop lasts at least 20.0 s and at most 12.0 s | lower the shortest length, or raise the longest",
        ),
        (
            Unmet::FadeTooLong { fade: 10.0, used: 4.0 },
            "the fade of 10.0 s is longer than the clip (4.000 s) | shorten the fade",
        ),
        (
            Unmet::CrossfadeTooLong { crossfade: 2.0, looped: 3.0, most: 1.5 },
            "a crossfade of 2.000 s is too long for a loop of 3.000 s | 1.500 s is the longest that can be",
        ),
        (
            Unmet::NothingToMatch,
            "there is only silence around the loop that its end could be matched with | leave --loop-snap out, or leave some sound before or after the loop",
        ),
        (
            Unmet::LoopRequired,
            "the target requires a loop, and this clip has no loop points | set the loop, as in --loop 1.5s..end",
        ),
        (
            Unmet::LoopRefused { container: None },
            "the target takes no loop | leave --loop out, or name a .wav, .aiff, .flac or .ogg; for a player that loops the whole file add --loop all or --cut seam",
        ),
        (
            Unmet::LoopRefused { container: Some(s("qoa")) },
            "qoa has no place for loop points | leave --loop out, or name a .wav, .aiff, .flac or .ogg; for a player that loops the whole file add --loop all or --cut seam",
        ),
        (
            Unmet::LoopPinned { multiple: 64 },
            "the loop points have to move to multiples of 64 frames, and the sound after the loop keeps them where they are | add --tail cut",
        ),
        (
            Unmet::NoMultiple { multiple: 64, most: 1.0, once: 7.5 },
            "no number of rounds makes this loop a multiple of 64 frames within 1 cents | allow more: --loop-bend 7.51",
        ),
        (
            Unmet::NotMultiple {
                frames: 8001,
                multiple: 1024,
                rounds: 16,
                cents: 0.216,
                usual: 1.0,
                exact: Some(1024),
            },
            "the loop of 8001 frames is not a multiple of 1024: 16 rounds and retuning by +0.216 cents would make it one, and nothing else has to be converted | allow it with --loop-bend 1, or --loop-bend 0 to play it 1024 times over as it is",
        ),
        (
            Unmet::BlocksNeedPlainHeader,
            "an extensible header has no place for the blocks of IMA ADPCM | ask for --header plain",
        ),
        (
            Unmet::BlockSize { bytes: 30, channels: 2, group: 8 },
            "blocks of 30 bytes cannot hold IMA ADPCM of 2 channels | ask for a multiple of 8 bytes from 16 to 65532",
        ),
        (
            Unmet::FileTooLarge {
                format: s("wav f64 96000 stereo"),
                gib: 5.5,
                container: s("wav"),
                longest: 2796.0,
            },
            "wav f64 96000 stereo would take 5.50 GiB; wav holds at most 4 GiB | ask for fewer bits, channels or a lower rate, or cut the clip to 46:36.0 at most",
        ),
        (
            Unmet::TagRefused { container: s("qoa"), name: s("TITLE"), holds: vec![] },
            "qoa has no place for a tag named TITLE | leave --tag out, or choose another container",
        ),
        (
            Unmet::TagRefused {
                container: s("wav"),
                name: s("MOOD"),
                holds: vec![s("TITLE"), s("ARTIST")],
            },
            "wav has no place for a tag named MOOD | it holds TITLE, ARTIST",
        ),
        (
            Unmet::NoPlainChannels { codec: s("vorbis"), channels: 6 },
            "vorbis has no 6 channels without places: one of them would hold low frequencies alone | ask for 5.1 where that is meant, or for an encoding that keeps all of them, such as ogg opus or flac flac16",
        ),
        (
            Unmet::TooManyChannels { codec: s("aac"), most: 2, channels: 6 },
            "aac is written with 2 channels at most, and this has 6 | ask for 2 channels or fewer, or choose them with --route",
        ),
        (
            Unmet::RateUnknown { codec: s("aac"), hertz: 50_000, nearest: 48_000 },
            "aac has no sample rate of 50000 Hz | ask for 48000 Hz, the nearest that it has",
        ),
        (
            Unmet::RateTooHigh { codec: s("vorbis"), hertz: 384_000, most: 200_000 },
            "vorbis is written up to 200000 Hz, and this has 384000 | ask for a lower rate",
        ),
        (
            Unmet::QualityOutside { encoding: s("vorbis:q11"), least: -1, most: 10 },
            "there is no quality vorbis:q11 | its scale goes from q-1 to q10",
        ),
        (
            Unmet::QualityOutside { encoding: s("aac:q1.5"), least: 1, most: 5 },
            "there is no quality aac:q1.5 | its scale has whole numbers from q1 to q5; or state a bit rate, as in aac:128k",
        ),
        (
            Unmet::BitRateOutside {
                codec: s("vorbis"),
                hertz: 8_000,
                channels: 1,
                kilobits: 320,
                nearest: Some(42),
            },
            "vorbis of 8000 Hz and 1 channels has no bit rate of 320k | ask for vorbis:42k, the nearest that it has, or for a quality such as vorbis:q5",
        ),
        (
            Unmet::BitRateOutside {
                codec: s("vorbis"),
                hertz: 4_000,
                channels: 1,
                kilobits: 64,
                nearest: None,
            },
            "vorbis of 4000 Hz and 1 channels has no bit rate of 64k | ask for a quality such as vorbis:q5, or another rate",
        ),
        (
            Unmet::CodecRefuses { format: s("m4a aac 8000 mono"), reason: s("no such mode") },
            "m4a aac 8000 mono cannot be encoded: no such mode | ask for another quality, rate or number of channels",
        ),
        (
            Unmet::Rule { what: s("length"), expected: s("at most 6 s"), found: s("7 s") },
            "length: 7 s, should be at most 6 s | choose the part that counts with --cut, or add silence with --pad",
        ),
        (
            Unmet::Rule { what: s("size"), expected: s("at most 1 KiB"), found: s("2 KiB") },
            "size: 2 KiB, should be at most 1 KiB | cut the clip, or ask for a smaller spec among the rule's alternatives",
        ),
        (
            Unmet::Rule { what: s("loop"), expected: s("0s"), found: s("1s") },
            "loop: 1s, should be 0s | move the clip's loop points before",
        ),
        (
            Unmet::Begins { found: s("00"), asked: vec![s("4C")] },
            "begins with 00, should be 4C | finish the file with the maker's tools as the sheet asks",
        ),
        (
            Unmet::Closed,
            "this slot's format is closed: no spec line describes it | name the maker's encoder with --encoder, or place a finished file with swap --as-is",
        ),
        (
            Unmet::OverBudget { takes: 3 << 20, budget: 1 << 20 },
            "all slots together would take about 3.00 MiB, and there is room for 1.00 MiB | cut clips, or choose smaller ones among the specs that the target takes",
        ),
    ] {
        assert_eq!(format!("{} | {}", unmet::unmet(&wanted), unmet::unmet_remedy(&wanted)), want);
    }
}

fn part() -> Stretch {
    Stretch { start: 0.5, end: 2.0 }
}

fn law(fold: Fold, scale: Option<f64>) -> Law {
    Law { route: Route(vec![vec![(0, 0.5), (1, 0.5)]]), fold, scale }
}

fn seam() -> FoundSeam {
    FoundSeam { verdict: Verdict::Good }
}

fn encoded(from: &str, to: &str, lossy: bool, dither: Dither, reason: DepthReason) -> Decision {
    Decision::Encoded { from: s(from), to: s(to), lossy, dither, reason }
}

fn levelled(goal: LevelGoal, measure: Measure, of_stock: bool) -> Decision {
    let (integrated, of_both) = (None, false);
    let level = Levelling { now: -20.0, goal, measure, integrated, of_both, of_stock };
    Decision::Gained { gain: 4.0, level: Some(level) }
}

#[test]
fn decisions_of_shaping() {
    let routed =
        |fold, scale| Decision::Routed { from: s("stereo"), to: s("mono"), law: law(fold, scale) };
    for (decision, want) in [
        (
            Decision::KeptWhole,
            "whole file: kept as it is, byte for byte | it meets the spec already",
        ),
        (
            Decision::SamplesCopied,
            "samples: copied bit for bit | encoding, rate and channels are right already",
        ),
        (
            Decision::FramesHeld { frames: 7 },
            "length: 7 frames, as many as there are | the clip is cut short: its header promises more",
        ),
        (
            Decision::OffsetRemoved { percent: 1.5 },
            "DC: an offset of 1.50 % of full scale is removed | it costs headroom and clicks at the ends",
        ),
        (
            Decision::Cut { part: part(), reason: CutReason::Requested },
            "cut: from 0.500 s to 2.000 s (1.500 s) | requested",
        ),
        (
            Decision::Cut { part: part(), reason: CutReason::Piece { number: 3 } },
            "cut: from 0.500 s to 2.000 s (1.500 s) | segment 3 was requested",
        ),
        (
            Decision::Cut { part: part(), reason: CutReason::Seam(seam()) },
            "cut: from 0.500 s to 2.000 s (1.500 s) | it loops best there as a whole: its seam is good",
        ),
        (
            Decision::Cut { part: part(), reason: CutReason::Loudest { longest: 1.5 } },
            "cut: the loudest passage, from 0.500 s to 2.000 s (1.500 s) | 1.500 s is the longest that is allowed",
        ),
        (
            Decision::EndsSnapped { frames: [3, 0] },
            "cut: the ends move by 3 and 0 frames | they snap to zero crossings",
        ),
        (
            Decision::SilenceTrimmed { seconds: [0.1, 0.2], below: -60.0, noise: None },
            "silence: 0.100 s trimmed from the start, 0.200 s from the end | it is below -60 dBFS",
        ),
        (
            Decision::SilenceTrimmed { seconds: [0.1, 0.2], below: -46.24, noise: Some(-55.1) },
            "silence: 0.100 s trimmed from the start, 0.200 s from the end | it is below -46.2 dBFS, and the recording's noise is at -55.1 dBFS",
        ),
        (
            Decision::PlaysForward { direction: Direction::PingPong, container: s("flac") },
            "loop: a ping-pong loop plays forward | flac holds forward loops only",
        ),
        (
            Decision::ReleaseUntold { container: s("wav") },
            "loop: the release loop becomes an ordinary loop | wav has no release loops",
        ),
        (
            Decision::SecondForRelease { container: s("aiff") },
            "loop: the second loop becomes the release loop | aiff holds one sustain loop and one release loop",
        ),
        (
            Decision::LoopPlays { direction: Direction::Backward },
            "loop: plays backward | requested",
        ),
        (Decision::Reversed, "cut: backwards, from the end to the start | requested"),
        (
            Decision::ToneCut { low: Some(80.0), high: None },
            "tone: frequencies below 80 Hz are cut (24 dB/octave) | requested",
        ),
        (
            Decision::ToneCut { low: Some(80.0), high: Some(7500.0) },
            "tone: frequencies below 80 Hz and above 7500 Hz are cut (24 dB/octave) | requested",
        ),
        (
            Decision::Stretched { from: 9.0, to: 8.0 },
            "speed: time-stretched from 9.000 s to 8.000 s (0.889 times), pitch unchanged | requested",
        ),
        (
            Decision::Stretched { from: 4.0, to: 8.0 },
            "speed: time-stretched from 4.000 s to 8.000 s (2.000 times), pitch unchanged | requested; listen to it: attacks may double or soften this far from the original length",
        ),
        (
            Decision::Textured { pieces: 4, fade: 1.5, seconds: 20.0 },
            "loop: a seamless loop of 20.0 s from 4 pieces, crossfaded over 1.500 s | requested",
        ),
        (
            Decision::TailWrapped { seconds: 0.25, later: false },
            "loop: the tail (0.250 s) is wrapped onto the loop start | requested",
        ),
        (
            Decision::TailWrapped { seconds: 0.25, later: true },
            "loop: the tail (0.250 s) is wrapped onto the second pass; both loop points move later by that | requested; the first pass stays dry",
        ),
        (
            Decision::Shortened { from: 9.0, to: 6.0 },
            "length: cut to 6.000 s with a fade | it would last 9.000 s",
        ),
        (
            Decision::Separated { keep: Keep::Shared },
            "separate: what left and right share is kept: a guide, not the clip | requested",
        ),
        (
            Decision::Separated { keep: Keep::Different },
            "separate: what differs between left and right is kept | requested",
        ),
        (routed(Fold::Requested, None), "channels: stereo to mono: 0.5L+0.5R | requested"),
        (
            routed(Fold::Average, Some(-6.0)),
            "channels: stereo to mono: the average of left and right | required by the spec: mono",
        ),
        (
            routed(Fold::AverageOfAll, Some(-9.5)),
            "channels: stereo to mono: the average of all channels, -9.5 dB in all so that it cannot clip | required by the spec: mono",
        ),
        (
            routed(Fold::Centre, None),
            "channels: stereo to mono: the mono clip goes to the centre, the others stay silent | required by the spec: mono",
        ),
        (
            routed(Fold::All, None),
            "channels: stereo to mono: copied to all 1 channels | required by the spec: mono",
        ),
        (
            routed(Fold::Front, None),
            "channels: stereo to mono: left and right go to the front, the others stay silent | required by the spec: mono",
        ),
        (
            routed(Fold::Sides, Some(-3.0)),
            "channels: stereo to mono: back and side are summed, -3.0 dB in all so that it cannot clip | required by the spec: mono",
        ),
        (
            routed(Fold::Bs775, Some(-7.7)),
            "channels: stereo to mono: the sums of ITU-R BS.775, low frequencies left out, -7.7 dB in all so that it cannot clip | required by the spec: mono",
        ),
        (
            Decision::SpeedChanged { factor: 1.25 },
            "speed: 1.25 times as fast, and as high | requested",
        ),
        (
            Decision::Resampled { from: 44_100, to: 48_000, frames: 441, become_frames: 480 },
            "sample rate: 44100 to 48000 Hz (by 160/147): 441 frames become 480 | required by the spec",
        ),
        (
            Decision::Resampled { from: 48_000, to: 24_000, frames: 480, become_frames: 240 },
            "sample rate: 48000 to 24000 Hz (by 1/2): 480 frames become 240 | required by the spec; content above 11400 Hz is lost",
        ),
        (Decision::Gained { gain: -3.0, level: None }, "level: -3.0 dB | requested"),
        (
            levelled(LevelGoal::Peak(-1.0), Measure::Integrated, false),
            "level: +4.0 dB: from -20.0 dBFS to -1.0 dBFS | requested",
        ),
        (
            levelled(LevelGoal::TruePeak(-1.0), Measure::Integrated, false),
            "level: +4.0 dB: from -20.0 dBTP to -1.0 dBTP | requested",
        ),
        (
            levelled(LevelGoal::Loudness(-16.0), Measure::Integrated, true),
            "level: +4.0 dB: from -20.0 LUFS to -16.0 LUFS | as loud as the stock",
        ),
        (
            levelled(LevelGoal::Loudness(-16.0), Measure::Momentary, false),
            "level: +4.0 dB: from -20.0 LUFS to -16.0 LUFS, max momentary since it is shorter than 3 s | requested",
        ),
        (
            levelled(LevelGoal::Loudness(-16.0), Measure::Padded, false),
            "level: +4.0 dB: from -20.0 LUFS to -16.0 LUFS, with silence added since it is shorter than 0.4 s | requested",
        ),
        (
            Decision::PeaksLimited { ceiling: -1.0, peak: 3.2 },
            "level: a limiter holds true peaks at -1.0 dBTP | peaks would reach 3.2 dB",
        ),
        (
            Decision::PeaksClipped { peak: 3.2 },
            "level: peaks of 3.2 dB are clipped | clipping was allowed",
        ),
        (
            Decision::Gained {
                gain: 12.04,
                level: Some(Levelling {
                    now: -24.0,
                    goal: LevelGoal::Loudness(-11.96),
                    measure: Measure::Momentary,
                    integrated: Some(9.8),
                    of_both: true,
                    of_stock: true,
                }),
            },
            "level: +12.0 dB: from -24.0 LUFS to -12.0 LUFS, max momentary of both since one is shorter than 3 s; integrated it would be +9.8 dB | as loud as the stock",
        ),
        (
            Decision::Faded { seconds: [0.1, 0.2] },
            "fades: in over 0.100 s, out over 0.200 s | requested",
        ),
        (
            Decision::Padded { seconds: [0.1, 0.2] },
            "silence: 0.100 s added before, 0.200 s after | requested",
        ),
        (
            Decision::FilledUp { frames: 30, unit: 160 },
            "silence: 30 frames added after the last | nothing in the file counts less than 160",
        ),
    ] {
        assert_eq!(format!("{} | {}", plan::line(&decision), plan::why(&decision)), want);
    }
}

#[test]
fn decisions_of_encoding_and_chunks() {
    let chunks = |reason| Decision::ChunksLeftOut { ids: vec![s("LIST"), s("cue ")], reason };
    let header = |header, reason| Decision::HeaderKind { header, reason };
    for (decision, want) in [
        (
            encoded("pcm24", "pcm16", false, Dither::Triangular, DepthReason::BitsLost),
            "bit depth: pcm24 to pcm16 with TPDF dither | bits are lost",
        ),
        (
            encoded("pcm16", "pcm8", false, Dither::Shaped, DepthReason::EightBits),
            "bit depth: pcm16 to pcm8 with noise-shaped TPDF dither | bit depth drops to 8",
        ),
        (
            encoded("pcm16", "pcm16", false, Dither::Triangular, DepthReason::BitsLost),
            "bit depth: rounded to pcm16 again with TPDF dither | bits are lost",
        ),
        (
            encoded("pcm16", "pcm24", false, Dither::None, DepthReason::NothingLost),
            "bit depth: pcm16 to pcm24 without dither | no bits are lost",
        ),
        (
            encoded("pcm16", "f32", false, Dither::None, DepthReason::Float),
            "bit depth: pcm16 to f32 without dither | floating point needs none",
        ),
        (
            encoded("pcm16", "vorbis", true, Dither::None, DepthReason::Required),
            "encoding: pcm16 to vorbis | required by the spec",
        ),
        (
            encoded("vorbis", "vorbis", true, Dither::None, DepthReason::Required),
            "encoding: encoded as vorbis again | required by the spec",
        ),
        (
            encoded("pcm24", "imaadpcm", true, Dither::Triangular, DepthReason::SixteenBitInput),
            "encoding: pcm24 to imaadpcm with TPDF dither | it is encoded from 16 bits",
        ),
        (header(Header::Plain, HeaderReason::Plainest), "header: plain | every loader knows it"),
        (
            header(Header::Plain, HeaderReason::Required),
            "header: plain | the target's files have it",
        ),
        (header(Header::Extensible, HeaderReason::Kept), "header: extensible | the clip has it"),
        (
            header(Header::Extensible, HeaderReason::Needed),
            "header: extensible | more than 2 channels or 16 bits need it",
        ),
        (chunks(LeftOut::Forbidden), "chunks: left out: LIST, cue  | the target takes none"),
        (
            chunks(LeftOut::NoPlace { container: s("qoa") }),
            "chunks: left out: LIST, cue  | qoa has no place for them",
        ),
        (
            chunks(LeftOut::OnlySamples),
            "chunks: left out: LIST, cue  | nothing but the samples is wanted",
        ),
        (
            chunks(LeftOut::OnlyLoops),
            "chunks: left out: LIST, cue  | nothing but loop points is wanted",
        ),
        (
            chunks(LeftOut::NotUsed),
            "chunks: left out: LIST, cue  | they are in a part that is not used",
        ),
        (
            chunks(LeftOut::Foreign { container: s("wav") }),
            "chunks: left out: LIST, cue  | they belong to wav",
        ),
        (
            chunks(LeftOut::Filler),
            "chunks: left out: LIST, cue  | they are padding, written new, or larger than 4 MiB",
        ),
        (
            chunks(LeftOut::Outdated { keeps: true }),
            "chunks: left out: LIST, cue  | they describe the clip as it was; --tags keep keeps them",
        ),
        (
            chunks(LeftOut::Outdated { keeps: false }),
            "chunks: left out: LIST, cue  | they describe the clip as it was",
        ),
        (
            Decision::MarkersLeftOut(LeftOut::Forbidden),
            "chunks: the clip's markers are left out | the target takes none",
        ),
        (
            Decision::TagsLeftOut { names: vec![s("TITLE")], reason: LeftOut::Forbidden },
            "chunks: tags left out: TITLE | the target takes none",
        ),
    ] {
        assert_eq!(format!("{} | {}", plan::line(&decision), plan::why(&decision)), want);
    }
}

#[test]
fn decisions_of_loops() {
    let length = |multiple, rounds, cents, once| Decision::LoopLength {
        frames: 4096,
        multiple,
        rounds,
        cents,
        once,
    };
    let faded =
        |correlation| Decision::Crossfaded { seconds: 0.5, correlation, bands: [correlation; 3] };
    for (decision, want) in [
        (
            Decision::Crossfaded { seconds: 0.5, correlation: 0.6, bands: [0.9, 0.5, 0.1] },
            "loop: 0.500 s crossfade at the loop point | requested; low, middle and high each by their own correlation (0.90, 0.50, 0.10)",
        ),
        (
            Decision::LoopSet { part: part(), reason: LoopReason::Requested },
            "loop: from 0.500 s to 2.000 s (1.500 s) | requested",
        ),
        (
            Decision::LoopSet { part: part(), reason: LoopReason::Found(seam()) },
            "loop: from 0.500 s to 2.000 s (1.500 s) | found: its seam is good",
        ),
        (
            Decision::LoopSet { part: part(), reason: LoopReason::Crossfade },
            "loop: from 0.500 s to 2.000 s (1.500 s) | the crossfade needs what would be the loop's first sound",
        ),
        (
            Decision::LoopEndMoved { frames: -12.0, seconds: -0.000_25 },
            "loop: the end moves by -12 frames (-0.25 ms) | the waveform there is most like that at the start",
        ),
        (
            Decision::TailCut { seconds: 1.0, requested: true },
            "loop: the tail of 1.000 s is cut off | requested",
        ),
        (
            Decision::TailCut { seconds: 1.0, requested: false },
            "loop: the tail of 1.000 s is cut off | the loop ends there; --tail keep keeps it",
        ),
        (
            faded(0.9),
            "loop: 0.500 s crossfade at the loop point | requested; near equal-gain (correlation 0.90)",
        ),
        (
            faded(0.01),
            "loop: 0.500 s crossfade at the loop point | requested; near equal-power (correlation 0.01)",
        ),
        (
            faded(0.5),
            "loop: 0.500 s crossfade at the loop point | requested; between equal-power and equal-gain (correlation 0.50)",
        ),
        (
            length(1, 1, -0.002, -0.002),
            "loop: exactly 4096 frames (retuned by -0.002 cents) | a loop is a whole number of frames",
        ),
        (
            length(1, 1, 0.0, 0.0),
            "loop: exactly 4096 frames (not retuned) | a loop is a whole number of frames",
        ),
        (
            length(1024, 3, 0.5, 2.25),
            "loop: exactly 4096 frames, 4 times 1024 (3 rounds, retuned by +0.500 cents) | one round would retune it by +2.25 cents",
        ),
        (
            Decision::LoopMoved { frames: 12, seconds: 0.000_25, multiple: 1 },
            "loop: both points move 12 frames later (0.25 ms) | there the filter sees the loop alone, and no longer what comes before it",
        ),
        (
            Decision::LoopMoved { frames: 12, seconds: 0.000_25, multiple: 64 },
            "loop: both points move 12 frames later (0.25 ms) | the loop start has to be a multiple of 64 frames; the sound moves along",
        ),
        (
            Decision::SeamError { decibels: -71.2 },
            "loop: conversion leaves an error of up to -71 dBFS at the seam | the sound after the loop is kept, so its points stay; --tail cut makes it exact",
        ),
        (
            Decision::LoopsWhole { container: s("qoa") },
            "loop: no loop points: the whole file loops | qoa has no place for them",
        ),
        (
            Decision::LoopsLeftOut(LeftOut::NotUsed),
            "loop: the clip's loop points are left out | they are in a part that is not used",
        ),
        (
            Decision::FirstLoops { most: 1, container: s("ogg") },
            "loop: only the first loops are kept | ogg holds 1",
        ),
        (
            Decision::LoopsRounded { excess: 0.25 },
            "loop: loop points move to the nearest frames of the new rate | a loop is +0.25 frames off its exact length",
        ),
    ] {
        assert_eq!(format!("{} | {}", plan::line(&decision), plan::why(&decision)), want);
    }
}

#[test]
fn notices() {
    for (found, want) in [
        (Notice::NoStockLevel, "level unchanged: there is no stock to match the level of"),
        (
            Notice::ChangedSince { kept: 2 },
            "the file was changed since it was installed; it counts as the stock now, and all 2 generations are kept",
        ),
        (
            Notice::VariantsLeft {
                family: s("gull_#"),
                replaced: 1,
                all: 3,
                left: vec![s("gull_2"), s("gull_3")],
            },
            "1 of 3 variants of gull_# replaced; left unchanged: gull_2, gull_3",
        ),
        (
            Notice::Uneven { slots: vec![s("a_#")], dealt: 2, pieces: false, to: 3 },
            "a_#: 2 clips for 3 slots; some are used twice",
        ),
        (
            Notice::Uneven { slots: vec![s("a_#")], dealt: 2, pieces: true, to: 3 },
            "a_#: 2 segments for 3 slots; some are used twice",
        ),
        (
            Notice::SlotsLeft { of: s("sfx"), replaced: 4, all: 5, left: vec![s("sfx/e.ogg")] },
            "4 of 5 slots of sfx replaced; left unchanged: sfx/e.ogg",
        ),
        (
            Notice::LinkReplaced { to: Some(s("b.ogg")) },
            "the slot is a link to b.ogg: a file takes its place, and restore brings the link back",
        ),
        (
            Notice::CompanionStale { file: s("a.lip") },
            "a.lip still belongs to the stock: no such file lies beside the clip",
        ),
        (
            Notice::EntriesNotPacked { files: vec![s("cues.json")] },
            "not in it: what cues.json must be told; who installs it tells that by hand",
        ),
        (Notice::LinkFollowed { link: s("a.ogg") }, "a.ogg is a link to this file"),
        (
            Notice::LinkedBy { links: vec![s("a.ogg"), s("c.ogg")] },
            "also changes what links to it: a.ogg, c.ogg",
        ),
        (Notice::NoPrompt { slots: vec![s("A")] }, "the list has no line for 1 slot: A"),
        (
            Notice::NoPrompt { slots: vec![s("A"), s("B")] },
            "the list has no line for 2 slots: A, B",
        ),
        (
            Notice::EntriesLeft { files: vec![s("cues.json")], caches: vec![s("*.idx")] },
            "entries in cues.json not made, caches *.idx not cleared: add --entries to do what the sheet asks",
        ),
        (Notice::LoopLost, "the stock loops, this clip has no loop points"),
        (Notice::Level { by: 3.25 }, "3.2 LU louder than the stock"),
        (Notice::Level { by: -3.25 }, "3.2 LU quieter than the stock"),
        (Notice::Long { times: 8.0 }, "8.0 times as long as the stock"),
        (Notice::Overs { samples: 7 }, "7 samples clipped at full scale: lower the clip's level"),
        (Notice::NotNumbers { samples: 7 }, "7 NaN or infinite samples became silence"),
        (
            Notice::Cancels { correlation: -1.0 },
            "left and right are opposed (correlation -1.00) and cancel in mono: --route L takes the left channel alone",
        ),
        (
            Notice::Limited { most: 14.3, seconds: 0.275, distortion: 0.0312 },
            "limiter: up to 14.3 dB of gain reduction over 0.275 s, distortion 3.1 %: lower --level or --gain",
        ),
        (
            Notice::Limited { most: 4.3, seconds: 0.275, distortion: 0.0012 },
            "limiter: up to 4.3 dB of gain reduction over 0.275 s, distortion 0.1 %",
        ),
    ] {
        assert_eq!(notice::words(&found), want);
    }
}
