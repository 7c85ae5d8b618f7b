//! Samples to MPEG audio, Layer III (ISO/IEC 11172-3, 13818-3, and the halved rates that decoders have taken up): our own
//! encoder.
//!
//! A filter bank gives the spectrum of each granule of 576 samples ([`filter`]), a model of the ear what noise it may
//! have ([`hearing`]), from which each band's step follows ([`quantise`]); values are coded with the best tables
//! ([`huffman`]), and frames lend each other room ([`stream`]), so that the noise is heard alike at all times
//! ([`rate`]).

mod codes;
mod filter;
mod granule;
mod hearing;
mod huffman;
mod quantise;
mod rate;
mod spectrum;
mod stream;
mod tables;

pub use rate::Aim;
pub use stream::Form;

use crate::block::Block;
use crate::num::{count, single};
use filter::{FilterBank, GRANULE, Shape};
use hearing::{Attack, Hearing};
use rate::Control;
use spectrum::{Layout, Spectrum};
use stream::Stream;

/// How far what decoders give lies behind what came in: the filters' 481 and a granule.
pub const DELAY: u64 = 1_057;
/// What decoders are late by themselves; the rest is what info frames tell.
pub const DECODER_DELAY: u64 = 529;
/// The middle of a block's window lies so many samples before its second granule begins.
const MIDDLE: usize = 241;
/// Floating point may go far beyond full scale, but no further than the coarsest steps: 80 dB.
const LOUDEST: f64 = 1e4;
/// Zeros before the first sample, so that every window finds samples.
const LEAD: usize = 2 * GRANULE;

/// Encodes frame after frame.
pub struct Mp3 {
    form: Form,
    layouts: [Layout; 2],
    channels: Vec<Channel>,
    control: Control,
    stream: Stream,
    /// Spectra of the frame under way, by granule, then channel.
    frame: Vec<Vec<Spectrum>>,
    /// Where sounds begin in the granule that is coded next and in the one after it; the form of the last.
    attacks: [Attack; 2],
    last: Shape,
    granules: u64,
    given: u64,
}

struct Channel {
    bank: FilterBank,
    hearing: Hearing,
    /// From two granules before the next one on.
    samples: Vec<f32>,
}

impl Mp3 {
    /// Prepares the encoder.
    ///
    /// # Errors
    /// What it refuses, in words.
    pub fn new(hertz: u32, channels: usize, aim: Aim) -> Result<Self, String> {
        let no_rate = || format!("it has no rate of {hertz} Hz");
        let layouts = Layout::both(hertz).ok_or_else(no_rate)?;
        let form = Form::new(hertz, channels).ok_or_else(no_rate)?;
        let channel = |_| Channel {
            bank: FilterBank::new(),
            hearing: Hearing::new(f64::from(hertz), &layouts),
            samples: vec![0.0; LEAD],
        };
        Ok(Self {
            form,
            channels: (0..channels).map(channel).collect(),
            control: Control::new(form, aim)?,
            stream: Stream::new(form),
            frame: Vec::new(),
            attacks: [Attack::default(); 2],
            last: Shape::Long,
            granules: 0,
            given: 0,
            layouts,
        })
    }

    /// Takes samples in.
    pub fn encode(&mut self, block: &Block) {
        for (channel, samples) in self.channels.iter_mut().zip(block.channels()) {
            let held = samples.iter().map(|sample| single(sample.clamp(-LOUDEST, LOUDEST)));
            channel.samples.extend(held);
        }
        self.given += count(block.frames());
        while self.channels[0].samples.len() >= LEAD + 3 * GRANULE {
            self.granule();
        }
    }

    /// Nothing more comes: silence behind the end brings out the last samples.
    pub fn finish(&mut self) {
        let frame = count(GRANULE * self.form.granules());
        let frames = frames_for(self.form, self.given);
        let mut silence = Block::default();
        silence.shape(self.channels.len(), GRANULE);
        while self.granules * count(GRANULE) < frames * frame {
            self.encode(&silence);
        }
        self.stream.finish();
    }

    /// The next frame that is ready.
    pub fn next_frame(&mut self) -> Option<Vec<u8>> {
        self.stream.next_frame()
    }

    /// Codes the first granule of those that wait.
    fn granule(&mut self) {
        // Where the middle of a granule lies, and that of the one two granules later.
        let middle = LEAD - MIDDLE;
        let next = middle + 2 * GRANULE;
        let mut beyond = Attack::default();
        for channel in &mut self.channels {
            let around = &channel.samples[next - GRANULE / 2..next + GRANULE / 2];
            beyond.join(channel.hearing.attack(around));
        }
        // What comes right at the beginning of a granule is heard through the window of the one before.
        let [this, follows] = self.attacks;
        let (short, follows) = (this.found || follows.early, follows.found || beyond.early);
        self.attacks = [self.attacks[1], beyond];
        let shape = match (short, self.last, follows) {
            (true, ..) | (_, Shape::Short, true) => Shape::Short,
            (_, _, true) => Shape::Start,
            (_, Shape::Short, false) => Shape::Stop,
            _ => Shape::Long,
        };
        self.last = shape;
        let layout = &self.layouts[usize::from(shape == Shape::Short)];
        let mut spectra = Vec::new();
        for channel in &mut self.channels {
            channel.bank.take(&channel.samples[LEAD..LEAD + GRANULE]);
            let mut lines = [0.0; GRANULE];
            channel.bank.lines(shape, &mut lines);
            let weights = channel.hearing.weights(&channel.samples, middle, shape);
            spectra.push(Spectrum { shape, lines: layout.sort(&lines), weights });
            channel.samples.drain(..GRANULE);
        }
        self.granules += 1;
        self.frame.push(spectra);
        if self.frame.len() == self.form.granules() {
            let frame = std::mem::take(&mut self.frame);
            self.control.frame(frame, &self.layouts, &mut self.stream);
        }
    }
}

/// How many frames hold this many samples and what comes late.
pub fn frames_for(form: Form, samples: u64) -> u64 {
    (samples + DELAY).div_ceil(count(GRANULE * form.granules()))
}
