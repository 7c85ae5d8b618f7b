//! The sample tables of a track: where each packet lies (ISO/IEC 14496-12, 8.6 and 8.7).

use super::super::bytes::{be32, be64};
use super::boxes::find;
use crate::num::{count, count32, size};
use std::sync::Arc;

/// Sizes and places, as the file has them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tables {
    sizes: Sizes,
    /// First sample run of chunks: first chunk from 1 on, samples a chunk.
    runs: Vec<(u32, u32)>,
    chunks: Vec<u64>,
    /// Frames of each packet in the track's own clock: how many packets, and of what length.
    durations: Vec<(u32, u32)>,
}

/// Packets that lie behind one another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Run {
    /// Where the first begins.
    pub offset: u64,
    /// Bytes of each, and its length in the track's own clock.
    pub packets: Vec<(u32, u32)>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Sizes {
    Equal { bytes: u32, count: u64 },
    Each(Vec<u32>),
}

impl Tables {
    /// Reads `stsz`, `stsc`, `stco` or `co64`, and `stts` of an `stbl` box; the error says what is
    /// missing.
    pub fn parse(stbl: &[u8], file_bytes: u64) -> Result<Self, String> {
        let missing = |name: &str| format!("its sample table lacks \"{name}\"");
        let stsz = find(stbl, b"stsz").ok_or_else(|| missing("stsz"))?;
        let (equal, stated) = be32(stsz, 4).zip(be32(stsz, 8)).ok_or_else(|| missing("stsz"))?;
        let sizes = match equal {
            0 => Sizes::Each(words(stsz, 12, stated)),
            bytes => {
                Sizes::Equal { bytes, count: u64::from(stated).min(file_bytes / u64::from(bytes)) }
            }
        };
        let stsc = find(stbl, b"stsc").ok_or_else(|| missing("stsc"))?;
        let entries = words(stsc, 8, be32(stsc, 4).unwrap_or(0).saturating_mul(3));
        let runs = entries.chunks_exact(3).map(|run| (run[0], run[1])).collect();
        let chunks = match (find(stbl, b"stco"), find(stbl, b"co64")) {
            (Some(stco), _) => {
                let stated = be32(stco, 4).unwrap_or(0);
                words(stco, 8, stated).into_iter().map(u64::from).collect()
            }
            (None, Some(co64)) => {
                let stated = size(be32(co64, 4).unwrap_or(0).into());
                let all = co64.get(8..).unwrap_or_default().chunks_exact(8);
                all.take(stated).filter_map(|b| be64(b, 0)).collect()
            }
            (None, None) => return Err(missing("stco")),
        };
        let stts = find(stbl, b"stts").ok_or_else(|| missing("stts"))?;
        let entries = words(stts, 8, be32(stts, 4).unwrap_or(0).saturating_mul(2));
        let durations = entries.chunks_exact(2).map(|run| (run[0], run[1])).collect();
        Ok(Self { sizes, runs, chunks, durations })
    }

    /// Those of a fragmented file.
    pub fn of_runs(all: &[Run]) -> Self {
        let all: Vec<&Run> = all.iter().filter(|run| !run.packets.is_empty()).collect();
        let mut durations: Vec<(u32, u32)> = Vec::new();
        for (_, duration) in all.iter().flat_map(|run| &run.packets) {
            match durations.last_mut() {
                Some((count, same)) if same == duration => *count += 1,
                _ => durations.push((1, *duration)),
            }
        }
        let runs = (1..).zip(&all).map(|(chunk, run)| (chunk, count32(run.packets.len())));
        Self {
            sizes: Sizes::Each(
                all.iter().flat_map(|run| &run.packets).map(|(bytes, _)| *bytes).collect(),
            ),
            runs: runs.collect(),
            chunks: all.iter().map(|run| run.offset).collect(),
            durations,
        }
    }

    /// How many packets there are.
    pub fn packets(&self) -> u64 {
        match &self.sizes {
            Sizes::Equal { count, .. } => *count,
            Sizes::Each(sizes) => count(sizes.len()),
        }
    }

    /// The track's length in its own clock, up to the packet after the `packets`-th.
    pub fn duration(&self, packets: u64) -> u64 {
        let (mut left, mut sum) = (packets, 0u64);
        for &(run, length) in &self.durations {
            let taken = left.min(run.into());
            sum = sum.saturating_add(taken.saturating_mul(length.into()));
            left -= taken;
        }
        sum
    }

    /// The length of the first packet in the track's own clock.
    pub fn first_duration(&self) -> u32 {
        self.durations.first().map_or(0, |&(_, length)| length)
    }

    /// The place of every packet, in order.
    pub fn places(self: Arc<Self>) -> Places {
        Places { tables: self, packet: 0, chunk: 0, in_chunk: 0, run: 0, offset: None }
    }
}

/// As many words as are stated and there.
fn words(bytes: &[u8], at: usize, stated: u32) -> Vec<u32> {
    let all = bytes.get(at..).unwrap_or_default().chunks_exact(4);
    all.take(size(stated.into())).filter_map(|b| be32(b, 0)).collect()
}

/// Offsets and sizes of packets.
#[derive(Debug, Clone)]
pub struct Places {
    tables: Arc<Tables>,
    packet: u64,
    chunk: usize,
    in_chunk: u32,
    run: usize,
    offset: Option<u64>,
}

impl Iterator for Places {
    type Item = (u64, u32);

    fn next(&mut self) -> Option<Self::Item> {
        let tables = &self.tables;
        let bytes = match &tables.sizes {
            Sizes::Equal { bytes, count } => (self.packet < *count).then_some(*bytes)?,
            Sizes::Each(sizes) => *sizes.get(size(self.packet))?,
        };
        // Runs hold from their first chunk up to that of the next run.
        let following = tables.runs.get(self.run + 1).map(|run| size(run.0.into()));
        if self.in_chunk == 0 && following == Some(self.chunk + 1) {
            self.run += 1;
        }
        let a_chunk = tables.runs.get(self.run)?.1;
        if a_chunk == 0 {
            return None;
        }
        let offset = match self.offset {
            Some(offset) => offset,
            None => *tables.chunks.get(self.chunk)?,
        };
        self.packet += 1;
        self.in_chunk += 1;
        self.offset = Some(offset.checked_add(bytes.into())?);
        if self.in_chunk == a_chunk {
            (self.in_chunk, self.offset) = (0, None);
            self.chunk += 1;
        }
        Some((offset, bytes))
    }
}
