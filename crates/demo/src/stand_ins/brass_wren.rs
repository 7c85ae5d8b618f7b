//! Brass Wren, a talking cuckoo clock with a memory card.
//!
//! The card holds `WREN.ID`, the list `LIST.TSV` (a line a prompt: `slot`, a tab, `say`) and the
//! folder `SAY`. The clock's chip plays `wav pcm8|imaadpcm 18900|9450 mono`, and its loader knows
//! where every byte of the header must be.

use super::adpcm::decode_block;
use super::wave_out::wave;
use std::fmt;
use std::fs;
use std::io;
use std::path::Path;

/// The longest prompt, in seconds.
const LONGEST: u64 = 6;
/// What the card holds, in bytes.
const CARD: u64 = 3 << 19;
/// The rates of the chip, in hertz.
const RATES: [u32; 2] = [18_900, 9_450];

/// What the clock does with one prompt.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// It is played.
    Plays {
        /// Frames a second.
        rate: u32,
        /// What is heard.
        samples: Vec<i16>,
    },
    /// It is not, and why.
    Refused(String),
}

/// One line of the list, and what comes of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prompt {
    /// The file in `SAY`.
    pub slot: String,
    /// What the list says that it says.
    pub say: String,
    /// What the clock does.
    pub verdict: Verdict,
}

/// What happened when the card was put in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Boot {
    /// Every prompt of the list, in its order.
    pub prompts: Vec<Prompt>,
    /// Files in `SAY` that the list does not name: they are never played.
    pub unlisted: Vec<String>,
}

/// Why a card is not accepted at all.
#[derive(Debug)]
pub enum CardError {
    /// It cannot be read.
    Io(io::Error),
    /// It is no card of this clock, or too full.
    Refused(String),
}

impl fmt::Display for CardError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Io(error) => write!(f, "the card cannot be read: {error}"),
            Self::Refused(why) => write!(f, "the card is refused: {why}"),
        }
    }
}

impl std::error::Error for CardError {}

impl From<io::Error> for CardError {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

/// Puts a card in.
///
/// # Errors
/// [`CardError`] where the card as a whole is not accepted.
pub fn boot(card: &Path) -> Result<Boot, CardError> {
    if fs::read(card.join("WREN.ID")).ok().as_deref() != Some(b"BRASS WREN 1\r\n") {
        return Err(CardError::Refused("WREN.ID is missing or wrong".into()));
    }
    let folder = card.join("SAY");
    let mut names = Vec::new();
    let mut bytes = 0;
    for entry in fs::read_dir(&folder)? {
        let entry = entry?;
        bytes += entry.metadata()?.len();
        names.push(entry.file_name().to_string_lossy().into_owned());
    }
    if bytes > CARD {
        return Err(CardError::Refused(format!(
            "its files take {bytes} bytes, the clock has room for {CARD}"
        )));
    }
    let list = fs::read_to_string(card.join("LIST.TSV"))?;
    let mut prompts = Vec::new();
    for line in list.lines().skip(1).filter(|line| !line.is_empty()) {
        let (slot, say) = line.split_once('\t').unwrap_or((line, ""));
        prompts.push(Prompt {
            slot: slot.to_owned(),
            say: say.to_owned(),
            verdict: verdict(&folder, slot, &names),
        });
    }
    let listed = |name: &String| prompts.iter().any(|prompt| prompt.slot == *name);
    names.retain(|name| !listed(name));
    names.sort();
    Ok(Boot { prompts, unlisted: names })
}

fn verdict(folder: &Path, slot: &str, names: &[String]) -> Verdict {
    let judged = judge_name(slot, names).and_then(|()| {
        let file = fs::read(folder.join(slot)).map_err(|error| error.to_string())?;
        load(&file)
    });
    match judged {
        Ok((rate, samples)) => Verdict::Plays { rate, samples },
        Err(why) => Verdict::Refused(why),
    }
}

/// Eight letters, a dot, three letters; the card's file system is case-sensitive.
fn judge_name(slot: &str, names: &[String]) -> Result<(), String> {
    let (stem, extension) = slot.split_once('.').unwrap_or((slot, ""));
    let letters = |name: &str| {
        name.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_')
    };
    let short = (1..=8).contains(&stem.len()) && extension == "PRM";
    if !short || !letters(stem) {
        return Err("its name is not 8.3 in upper case, ending in .PRM".into());
    }
    if names.iter().any(|name| name == slot) {
        return Ok(());
    }
    let twin = names.iter().find(|name| name.eq_ignore_ascii_case(slot));
    Err(match twin {
        Some(twin) => format!("no such file; there is {twin}, which is another name"),
        None => "no such file".into(),
    })
}

/// A cursor over the file that knows what must come next.
struct Bytes<'a> {
    file: &'a [u8],
    at: usize,
}

impl<'a> Bytes<'a> {
    fn take(&mut self, count: usize, what: &str) -> Result<&'a [u8], String> {
        let end = self.at.checked_add(count);
        let bytes = end.and_then(|end| self.file.get(self.at..end));
        let bytes = bytes.ok_or_else(|| format!("it ends within {what}"))?;
        self.at += count;
        Ok(bytes)
    }

    fn expect(&mut self, bytes: &[u8], what: &str) -> Result<(), String> {
        let at = self.at;
        match self.take(bytes.len(), what)? {
            found if found == bytes => Ok(()),
            found => {
                Err(format!("at byte {at} there should be {what}, not {}", found.escape_ascii()))
            }
        }
    }

    fn word(&mut self, what: &str) -> Result<u32, String> {
        let mut word = [0; 4];
        word.copy_from_slice(self.take(4, what)?);
        Ok(u32::from_le_bytes(word))
    }

    fn half(&mut self, what: &str) -> Result<u16, String> {
        let mut half = [0; 2];
        half.copy_from_slice(self.take(2, what)?);
        Ok(u16::from_le_bytes(half))
    }
}

/// Loads a file as the clock does: every field in its place, and not a byte to spare.
///
/// # Errors
/// Why it is refused.
pub fn load(file: &[u8]) -> Result<(u32, Vec<i16>), String> {
    let mut bytes = Bytes { file, at: 0 };
    bytes.expect(b"RIFF", "\"RIFF\"")?;
    let size = bytes.word("the size")?;
    if u64::from(size) + 8 != to_u64(file.len()) {
        return Err(format!("it says {size} bytes follow, not {}", file.len().saturating_sub(8)));
    }
    bytes.expect(b"WAVE", "\"WAVE\"")?;
    bytes.expect(b"fmt ", "\"fmt \"")?;
    let fmt_size = bytes.word("the format's size")?;
    let tag = bytes.half("the format's tag")?;
    match (tag, fmt_size) {
        (1, 16) | (0x11, 20) => {}
        (0xFFFE, _) => {
            return Err("its header is extensible; this loader knows the plain one".into());
        }
        (1 | 0x11, other) => return Err(format!("its format chunk has {other} bytes")),
        (other, _) => return Err(format!("encoding 0x{other:04X} is unknown to the chip")),
    }
    let channels = bytes.half("the channels")?;
    if channels != 1 {
        return Err(format!("it has {channels} channels, the clock has one speaker"));
    }
    let rate = bytes.word("the rate")?;
    if !RATES.contains(&rate) {
        return Err(format!("{rate} Hz; the chip runs at 18900 or 9450"));
    }
    let samples = match tag {
        1 => load_pcm(&mut bytes, rate)?,
        _ => load_adpcm(&mut bytes)?,
    };
    if bytes.at != file.len() {
        return Err(format!("{} bytes follow the samples", file.len() - bytes.at));
    }
    if to_u64(samples.len()) > LONGEST * u64::from(rate) {
        return Err(format!("it is longer than {LONGEST} s"));
    }
    Ok((rate, samples))
}

fn load_pcm(bytes: &mut Bytes<'_>, rate: u32) -> Result<Vec<i16>, String> {
    let byte_rate = bytes.word("the byte rate")?;
    let frame = bytes.half("the frame size")?;
    let bits = bytes.half("the bits")?;
    if bits != 8 {
        return Err(format!("{bits} bits a sample; the chip has 8"));
    }
    if byte_rate != rate || frame != 1 {
        return Err("byte rate and frame size contradict 8 bits mono".into());
    }
    let length = data_length(bytes)?;
    let samples = bytes.take(length, "the samples")?;
    if length % 2 == 1 {
        bytes.expect(&[0], "the pad byte of an odd chunk")?;
    }
    Ok(samples.iter().map(|&b| (i16::from(b) - 128) * 256).collect())
}

fn load_adpcm(bytes: &mut Bytes<'_>) -> Result<Vec<i16>, String> {
    let _byte_rate = bytes.word("the byte rate")?;
    let block = usize::from(bytes.half("the block size")?);
    bytes.expect(&[4, 0, 2, 0], "4 bits and 2 more bytes")?;
    let per_block = usize::from(bytes.half("the samples a block")?);
    if block < 8 || per_block != (block - 4) * 2 + 1 {
        return Err(format!("{block} bytes a block do not hold {per_block} samples"));
    }
    bytes.expect(b"fact\x04\0\0\0", "\"fact\"")?;
    let frames = to_usize(bytes.word("the length")?);
    let length = data_length(bytes)?;
    if length % block != 0 || frames.div_ceil(per_block) * block != length {
        return Err("its blocks do not hold the length that it states".into());
    }
    let mut samples = Vec::with_capacity(length * 2);
    for block in bytes.take(length, "the blocks")?.chunks_exact(block) {
        samples.extend(decode_block(block).ok_or("a block begins with nonsense")?);
    }
    if length % 2 == 1 {
        bytes.expect(&[0], "the pad byte of an odd chunk")?;
    }
    samples.truncate(frames);
    Ok(samples)
}

fn data_length(bytes: &mut Bytes<'_>) -> Result<usize, String> {
    bytes.expect(b"data", "\"data\"")?;
    Ok(to_usize(bytes.word("the samples' size")?))
}

fn to_u64(n: usize) -> u64 {
    u64::try_from(n).unwrap_or(u64::MAX)
}

fn to_usize(n: u32) -> usize {
    usize::try_from(n).unwrap_or(usize::MAX)
}

impl Boot {
    /// All that is heard when the clock says every prompt of one rate, half a second between them,
    /// as a WAV.
    pub fn heard(&self, wanted: u32) -> Vec<u8> {
        let mut all = Vec::new();
        for prompt in &self.prompts {
            if let Verdict::Plays { rate, samples } = &prompt.verdict
                && *rate == wanted
            {
                all.extend_from_slice(samples);
                all.resize(all.len() + to_usize(wanted / 2), 0);
            }
        }
        wave(wanted, &all)
    }
}

impl fmt::Display for Boot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Brass Wren looks at its card.")?;
        for Prompt { slot, say, verdict } in &self.prompts {
            match verdict {
                Verdict::Plays { rate, samples } => {
                    let millis = to_u64(samples.len()) * 1000 / u64::from(*rate);
                    let (whole, part) = (millis / 1000, millis % 1000);
                    write!(f, "\n  {slot:<12}  plays {whole}.{part:03} s at {rate} Hz: {say}")?;
                }
                Verdict::Refused(why) => write!(f, "\n  {slot:<12}  refused: {why}")?,
            }
        }
        for name in &self.unlisted {
            write!(f, "\n  {name:<12}  never said: LIST.TSV does not name it")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A sound file with this many samples.
    fn sound(samples: u32) -> Vec<u8> {
        let mut file = Vec::new();
        file.extend_from_slice(b"RIFF");
        file.extend_from_slice(&(36 + samples + samples % 2).to_le_bytes());
        file.extend_from_slice(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
        file.extend_from_slice(&18_900u32.to_le_bytes());
        file.extend_from_slice(&18_900u32.to_le_bytes());
        file.extend_from_slice(b"\x01\0\x08\0data");
        file.extend_from_slice(&samples.to_le_bytes());
        file.resize(44 + to_usize(samples), 128);
        file.resize(44 + to_usize(samples + samples % 2), 0);
        file
    }

    #[test]
    fn it_is_as_strict_as_a_real_one() {
        assert_eq!(load(&sound(1001)).map(|(_, s)| s.len()), Ok(1001));
        let change = |at: usize, byte: u8| {
            let mut file = sound(1000);
            file[at] = byte;
            load(&file).unwrap_err()
        };
        for (at, byte, why) in [
            (0, b'X', "\"RIFF\""),
            (4, 0, "bytes follow"),
            (16, 18, "format chunk has 18 bytes"),
            (20, 0xFE, "encoding 0x00FE"),
            (22, 2, "2 channels"),
            (24, 0, "the chip runs at"),
            (34, 16, "16 bits"),
            (36, b'L', "\"data\""),
            (40, 0, "bytes follow the samples"),
        ] {
            let refused = change(at, byte);
            assert!(refused.contains(why), "byte {at}: {refused}");
        }
        assert!(load(&sound(6 * 18_900 + 1)).unwrap_err().contains("longer"));
        let mut loud = sound(1001);
        *loud.last_mut().unwrap() = 7;
        assert!(load(&loud).unwrap_err().contains("pad byte"));
    }
}
