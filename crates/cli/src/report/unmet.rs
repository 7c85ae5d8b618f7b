//! What a clip cannot be made into, in words, and what to do next.

use super::check::begins;
use deft_needle_audio::Unmet;
use deft_needle_audio::units::Duration;
use deft_needle_core::sheet::Size;

fn between([start, end]: [f64; 2]) -> String {
    format!("from {} to {} ({})", Duration(start), Duration(end), Duration(end - start))
}

/// What cannot be met.
pub fn unmet(wanted: &Unmet) -> String {
    match wanted {
        Unmet::RangeBackwards { range } => format!("the range {range} ends before it starts"),
        Unmet::RangeOutside { range, seconds, frames } => format!(
            "the range {range} lies outside the clip, which is {} long ({frames} frames)",
            Duration(*seconds)
        ),
        Unmet::PlaceOutside { place, seconds } => {
            format!("{place} lies outside the clip, which is {} long", Duration(*seconds))
        }
        Unmet::NoSuchPiece { piece, sounds } => {
            format!("there is no segment {piece}: the clip has {sounds} sounds between silences")
        }
        Unmet::NothingLeft => "nothing is left of the clip".to_owned(),
        Unmet::AllSilent { below } => format!("all of the clip is below {below} dBFS"),
        Unmet::TooLong { seconds, longest } => format!(
            "the result would last {}, and {} is the longest that is allowed",
            Duration(*seconds),
            Duration(*longest)
        ),
        Unmet::StretchTooFar { from, to, .. } => format!(
            "{} cannot be stretched to {}: that is {:.2} times as long",
            Duration(*from),
            Duration(*to),
            to / from
        ),
        Unmet::TwoLengths => {
            "both --stretch and --fit-length say how long it is to last".to_owned()
        }
        Unmet::NothingAbove { low, highest } => {
            format!("nothing is left above a low cut at {low} Hz: the clip ends at {highest} Hz")
        }
        Unmet::NothingBetween { low, high } => {
            format!("nothing is left between a low cut at {low} Hz and a high cut at {high} Hz")
        }
        Unmet::NotStereo { channels } => {
            format!("only stereo can be separated, and the clip is {channels}")
        }
        Unmet::RateNotConvertible { hertz } => {
            format!("a sample rate of {hertz} Hz cannot be converted")
        }
        Unmet::SilentClip => "the clip is silent: it has no level".to_owned(),
        Unmet::SilentReference { path } => {
            format!("{} is silent: nothing can be as loud", path.display())
        }
        Unmet::NoStock => "there is no stock to match the level of".to_owned(),
        Unmet::FileTooLarge { format, gib, container, .. } => {
            format!("{format} would take {gib:.2} GiB; {container} holds at most 4 GiB")
        }
        Unmet::TagRefused { container, name, .. } => {
            format!("{container} has no place for a tag named {name}")
        }
        Unmet::Rule { what, expected, found } => format!("{what}: {found}, should be {expected}"),
        Unmet::Begins { found, asked } => begins(found, asked),
        Unmet::Closed => "this slot's format is closed: no spec line describes it".to_owned(),
        Unmet::OverBudget { takes, budget } => format!(
            "all slots together would take about {}, and there is room for {}",
            Size(*takes),
            Size(*budget)
        ),
        other => unmet_channels(other),
    }
}

/// The same of channels and encodings.
fn unmet_channels(wanted: &Unmet) -> String {
    match wanted {
        Unmet::NoUsualRoute { from, to } => {
            format!("there is no usual way from {from} channels to {to}")
        }
        Unmet::RouteBeyondClip { channel, channels } => {
            format!("the route uses channel {channel}, and the clip has {channels}")
        }
        Unmet::RouteTooLong { most } => format!("a route has 1 to {most} channels"),
        Unmet::RouteMismatch { makes, wants } => {
            format!("the route makes {makes}, and the target requires {wants}")
        }
        Unmet::BlocksNeedPlainHeader => {
            "an extensible header has no place for the blocks of IMA ADPCM".to_owned()
        }
        Unmet::BlockSize { bytes, channels, .. } => {
            format!("blocks of {bytes} bytes cannot hold IMA ADPCM of {channels} channels")
        }
        Unmet::NoPlainChannels { codec, channels } => format!(
            "{codec} has no {channels} channels without places: one of them would hold low frequencies alone"
        ),
        Unmet::TooManyChannels { codec, most, channels } => {
            format!("{codec} is written with {most} channels at most, and this has {channels}")
        }
        Unmet::RateUnknown { codec, hertz, .. } => {
            format!("{codec} has no sample rate of {hertz} Hz")
        }
        Unmet::RateTooHigh { codec, hertz, most } => {
            format!("{codec} is written up to {most} Hz, and this has {hertz}")
        }
        Unmet::QualityOutside { encoding, .. } => format!("there is no quality {encoding}"),
        Unmet::BitRateOutside { codec, hertz, channels, kilobits, .. } => {
            format!("{codec} of {hertz} Hz and {channels} channels has no bit rate of {kilobits}k")
        }
        Unmet::CodecRefuses { format, reason } => format!("{format} cannot be encoded: {reason}"),
        other => unmet_loop(other),
    }
}

/// The same of loops.
fn unmet_loop(wanted: &Unmet) -> String {
    match wanted {
        Unmet::NoLoopFound { seconds } => {
            format!("no loop was found in a clip of {}", Duration(*seconds))
        }
        Unmet::NoSuchLoop { range, frames, .. } => format!(
            "there is no loop from frame {} up to {} in a clip of {frames} frames",
            range.start, range.end
        ),
        Unmet::NoSoundAtSeam => "there is only silence around the seam".to_owned(),
        Unmet::TurnsBack { direction } => {
            format!("a {direction} loop turns back at its ends and has no seam")
        }
        Unmet::NoLoopToWrap => "there is no loop that the tail could be folded into".to_owned(),
        Unmet::NoLoopToPlay { direction } => format!("there is no loop to play {direction}"),
        Unmet::NoLoopToSmooth => "there is no loop whose seam could be smoothed".to_owned(),
        Unmet::LoopOutside { looped, used } => {
            format!("the loop {} lies outside the part that is used, {}", between(*looped), between(*used))
        }
        Unmet::LoopNotUsed => "the loop lies outside the part that is used".to_owned(),
        Unmet::LoopStretched => "a loop does not stay exact through time-stretching".to_owned(),
        Unmet::NoTexture { least, most, .. } if most < least => format!(
            "the clip is too short for a texture, which lasts {} at least",
            Duration(*least)
        ),
        Unmet::NoTexture { texture, least, .. } if texture < least => format!(
            "a texture of {} is too short: {} is the shortest",
            Duration(*texture),
            Duration(*least)
        ),
        Unmet::NoTexture { texture, most, .. } => format!(
            "a texture of {} is too long for this clip: {} is the longest",
            Duration(*texture),
            Duration(*most)
        ),
        Unmet::TextureLoops { option } => {
            format!("--texture makes a seamless loop of its own, and --{option} asks for another")
        }
        Unmet::NoTailToWrap => "there is no tail after the loop to wrap".to_owned(),
        Unmet::TailTooLong { tail, most } => format!(
            "the tail is {}, and at most {} can be wrapped",
            Duration(*tail),
            Duration(*most)
        ),
        Unmet::CrossfadeWithTail => {
            "a crossfade leads from the loop end back to its start, and the sound after the loop would click"
                .to_owned()
        }
        Unmet::NoSuchLength { shortest, longest } => format!(
            "no loop lasts at least {} and at most {}",
            Duration(*shortest),
            Duration(*longest)
        ),
        Unmet::FadeTooLong { fade, used } => format!(
            "the fade of {} is longer than the clip ({})",
            Duration(*fade),
            Duration(*used)
        ),
        Unmet::CrossfadeTooLong { crossfade, looped, .. } => format!(
            "a crossfade of {} is too long for a loop of {}",
            Duration(*crossfade),
            Duration(*looped)
        ),
        Unmet::NothingToMatch => {
            "there is only silence around the loop that its end could be matched with".to_owned()
        }
        Unmet::NotWritten { what } => format!("{what} is not written here"),
        Unmet::LoopRequired => {
            "the target requires a loop, and this clip has no loop points".to_owned()
        }
        Unmet::LoopRefused { container: None } => "the target takes no loop".to_owned(),
        Unmet::LoopRefused { container: Some(container) } => {
            format!("{container} has no place for loop points")
        }
        Unmet::LoopPinned { multiple } => format!(
            "the loop points have to move to multiples of {multiple} frames, and the sound after the loop keeps them where they are"
        ),
        Unmet::NoMultiple { multiple, most, .. } => format!(
            "no number of rounds makes this loop a multiple of {multiple} frames within {most} cents"
        ),
        Unmet::NotMultiple { frames, multiple, rounds, cents, .. } => {
            let rounds = match rounds {
                1 => String::new(),
                rounds => format!("{rounds} rounds and "),
            };
            format!(
                "the loop of {frames} frames is not a multiple of {multiple}: {rounds}retuning by {cents:+.3} cents would make it one, and nothing else has to be converted"
            )
        }
        _ => "this version has no words for what cannot be met".to_owned(),
    }
}

/// What to ask for instead.
pub fn unmet_remedy(wanted: &Unmet) -> String {
    let text = match wanted {
        Unmet::RangeBackwards { .. } => "write the earlier place first",
        Unmet::RangeOutside { .. } => "choose a range within the clip",
        Unmet::PlaceOutside { .. } => "choose a place within the clip",
        Unmet::NoSuchPiece { .. } => "inspect numbers them",
        Unmet::NothingLeft => "choose another range",
        Unmet::AllSilent { .. } => "choose a lower level, as in --trim-silence=-80dBFS",
        // A little too long is what stretching is for.
        Unmet::TooLong { seconds, longest } if *seconds < 1.5 * longest => {
            return format!(
                "add --too-long cut or --too-long loudest, shorten it with --fit-length {longest}s, or choose a part with --cut"
            );
        }
        Unmet::TooLong { .. } => {
            "add --too-long cut or --too-long loudest, or choose a part with --cut"
        }
        Unmet::StretchTooFar { least, most, .. } => {
            return format!(
                "ask for {} to {}, or choose another part with --cut",
                Duration(*least),
                Duration(*most)
            );
        }
        Unmet::TwoLengths => "leave one of them out",
        Unmet::NothingAbove { .. } => "ask for a lower --low-cut",
        Unmet::NothingBetween { .. } => "ask for a lower --low-cut or a higher --high-cut",
        Unmet::NotStereo { .. } => "leave --keep out, or start from the stereo mix",
        Unmet::RateNotConvertible { .. } => "ask for a rate from 1000 to 384000 Hz",
        Unmet::SilentClip => "leave --level out, or choose another part of the clip",
        Unmet::SilentReference { .. } => "name a level, as in --level -16LUFS",
        Unmet::NoStock => "name a file, as in --level like:FILE, or a level, as in -16LUFS",
        Unmet::FileTooLarge { longest, .. } => {
            return format!(
                "ask for fewer bits, channels or a lower rate, or cut the clip to {} at most",
                Duration(*longest)
            );
        }
        other => return file_remedy(other),
    };
    text.to_owned()
}

/// About the file and what is in it.
fn file_remedy(wanted: &Unmet) -> String {
    let text = match wanted {
        Unmet::TagRefused { holds, .. } if holds.is_empty() => {
            "leave --tag out, or choose another container"
        }
        Unmet::TagRefused { holds, .. } => return format!("it holds {}", holds.join(", ")),
        Unmet::Rule { what, .. } => match what.as_str() {
            "length" => "choose the part that counts with --cut, or add silence with --pad",
            "size" => "cut the clip, or ask for a smaller spec among the rule's alternatives",
            _ => "move the clip's loop points before",
        },
        Unmet::Begins { .. } => "finish the file with the maker's tools as the sheet asks",
        Unmet::Closed => {
            "name the maker's encoder with --encoder, or place a finished file with swap --as-is"
        }
        Unmet::OverBudget { .. } => {
            "cut clips, or choose smaller ones among the specs that the target takes"
        }
        other => return encoding_remedy(other).unwrap_or_else(|| loop_remedy(other)),
    };
    text.to_owned()
}

fn encoding_remedy(wanted: &Unmet) -> Option<String> {
    let text = match wanted {
        Unmet::NoUsualRoute { .. } => "ask for mono, or for as many channels as the clip has",
        Unmet::RouteBeyondClip { .. } => "use only channels that the clip has",
        Unmet::RouteTooLong { .. } => "write one expression for each output channel",
        Unmet::RouteMismatch { .. } => {
            "write one expression for each channel that the target requires"
        }
        Unmet::BlocksNeedPlainHeader => "ask for --header plain",
        Unmet::BlockSize { group, .. } => {
            return Some(format!(
                "ask for a multiple of {group} bytes from {} to 65532",
                2 * group
            ));
        }
        Unmet::NoPlainChannels { channels: 7, .. } => {
            "ask for an encoding that keeps all of them, such as ogg opus or flac flac16"
        }
        Unmet::NoPlainChannels { channels, .. } => {
            let layout = if *channels == 6 { "5.1" } else { "7.1" };
            return Some(format!(
                "ask for {layout} where that is meant, or for an encoding that keeps all of them, such as ogg opus or flac flac16"
            ));
        }
        Unmet::TooManyChannels { most, .. } => {
            return Some(format!("ask for {most} channels or fewer, or choose them with --route"));
        }
        Unmet::RateUnknown { nearest, .. } => {
            return Some(format!("ask for {nearest} Hz, the nearest that it has"));
        }
        Unmet::RateTooHigh { .. } => "ask for a lower rate",
        other => return quality_remedy(other),
    };
    Some(text.to_owned())
}

/// About how much a codec is to lose.
fn quality_remedy(wanted: &Unmet) -> Option<String> {
    let text = match wanted {
        Unmet::QualityOutside { least, most, encoding } if encoding.starts_with("aac") => {
            return Some(format!(
                "its scale has whole numbers from q{least} to q{most}; or state a bit rate, as in aac:128k"
            ));
        }
        Unmet::QualityOutside { least, most, .. } => {
            return Some(format!("its scale goes from q{least} to q{most}"));
        }
        Unmet::BitRateOutside { codec, nearest: Some(near), .. } => {
            let quality =
                if codec == "vorbis" { ", or for a quality such as vorbis:q5" } else { "" };
            return Some(format!("ask for {codec}:{near}k, the nearest that it has{quality}"));
        }
        Unmet::BitRateOutside { codec, .. } => {
            return Some(format!("ask for a quality such as {codec}:q5, or another rate"));
        }
        Unmet::CodecRefuses { .. } => "ask for another quality, rate or number of channels",
        _ => return None,
    };
    Some(text.to_owned())
}

fn loop_remedy(wanted: &Unmet) -> String {
    let text = match wanted {
        Unmet::NoLoopFound { .. } => {
            "look for a shorter one with `seam CLIP --shortest 1s`, set it with --loop, or for rain, engines and crowds add --texture"
        }
        Unmet::NoSuchLoop { least, .. } => {
            return format!("a loop lasts {} at least", Duration(*least));
        }
        Unmet::NoSoundAtSeam => "choose another loop",
        Unmet::TurnsBack { .. } => {
            "leave --crossfade, --loop-snap and --tail wrap out, or add --loop-direction forward"
        }
        Unmet::NoLoopToPlay { .. } | Unmet::NoLoopToWrap => "name one with --loop",
        Unmet::NoLoopToSmooth => "name one with --loop, or add --cut seam for the whole file",
        Unmet::LoopOutside { .. } => {
            "choose a loop within it; times are the clip's own, before any cut"
        }
        Unmet::LoopNotUsed => "choose a loop within it, or let the result be longer",
        Unmet::CrossfadeWithTail | Unmet::LoopPinned { .. } => "add --tail cut",
        Unmet::LoopStretched => {
            "leave --stretch and --fit-length out, or take the loop away with --loop none"
        }
        Unmet::NoTexture { least, most, .. } if most < least => {
            "leave --texture out, or give a longer clip"
        }
        Unmet::NoTexture { texture, least, .. } if texture < least => {
            "ask for a longer one, or give a longer clip"
        }
        Unmet::NoTexture { .. } => "ask for a shorter one, or give a longer clip",
        Unmet::TextureLoops { option } => return format!("leave --texture or --{option} out"),
        Unmet::NoTailToWrap => "end the loop before the sound dies away, or leave out --tail wrap",
        Unmet::TailTooLong { .. } => "cut the tail shorter with --cut ..END",
        Unmet::NoSuchLength { .. } => "lower the shortest length, or raise the longest",
        Unmet::FadeTooLong { .. } => "shorten the fade",
        Unmet::CrossfadeTooLong { most, .. } => {
            return format!("{} is the longest that can be", Duration(*most));
        }
        Unmet::NothingToMatch => {
            "leave --loop-snap out, or leave some sound before or after the loop"
        }
        Unmet::NotWritten { .. } => {
            "give a clip that is such a file already, without options: it is copied unchanged"
        }
        Unmet::LoopRequired => "set the loop, as in --loop 1.5s..end",
        Unmet::LoopRefused { .. } => {
            "leave --loop out, or name a .wav, .aiff, .flac or .ogg; for a player that loops the whole file add --loop all or --cut seam"
        }
        Unmet::NoMultiple { once, .. } => {
            return format!("allow more: --loop-bend {:.2}", once + 0.01);
        }
        Unmet::NotMultiple { usual, exact, .. } => {
            let exact = exact.map_or(String::new(), |rounds| {
                format!(", or --loop-bend 0 to play it {rounds} times over as it is")
            });
            return format!("allow it with --loop-bend {usual}{exact}");
        }
        _ => "",
    };
    text.to_owned()
}
