//! Vorbis of more than two channels, by the lewton crate: symphonia 0.6 gives other samples there than
//! the format's own library wherever channels share a residue of type 1.

use crate::block::Block;
use crate::read::packets::Decoder;
use crate::spec::vorbis_order;
use lewton::audio::{PreviousWindowRight, read_audio_packet_generic};
use lewton::header::{IdentHeader, SetupHeader, read_header_ident, read_header_setup};

/// One stream's decoder.
pub struct Surround {
    identification: IdentHeader,
    setup: SetupHeader,
    window: PreviousWindowRight,
}

impl Surround {
    /// Prepares a decoder from the identification and the setup packet.
    ///
    /// # Errors
    /// What is wrong with them, in words.
    pub fn new(identification: &[u8], setup: &[u8]) -> Result<Self, String> {
        let identification = read_header_ident(identification).map_err(|e| format!("{e:?}"))?;
        let blocks = (identification.blocksize_0, identification.blocksize_1);
        let setup = read_header_setup(setup, identification.audio_channels, blocks);
        Ok(Self {
            setup: setup.map_err(|e| format!("{e:?}"))?,
            identification,
            window: PreviousWindowRight::new(),
        })
    }
}

impl Decoder for Surround {
    fn decode(&mut self, packet: &[u8], block: &mut Block) -> Result<(), String> {
        let decoded: Vec<Vec<f32>> =
            read_audio_packet_generic(&self.identification, &self.setup, packet, &mut self.window)
                .map_err(|error| format!("a packet is not a valid ({error:?})"))?;
        let channels = block.channels_mut();
        if decoded.len() != channels.len() {
            return Err(format!("a packet holds {} channels", decoded.len()));
        }
        let order = vorbis_order(decoded.len());
        for (channel, at) in channels.iter_mut().zip(order) {
            channel.extend(decoded[*at].iter().map(|s| f64::from(*s)));
        }
        Ok(())
    }
}
