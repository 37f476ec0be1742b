//! Parts of what is inside a packed image, kept after one look into it: its start, and what its tables then ask for.

use std::io::{self, Read};
use std::ops::Range;
use std::time::{Duration, Instant};

use crate::bytes::ReadAt;
use crate::image::packed::{HEAD_BYTES, Packed, PackedFault};

/// How long it is unpacked to get at what lies behind the start.
const LOOK_MOST: Duration = Duration::from_millis(200);
/// Most bytes kept of what lies behind the start, in bytes.
const KEPT_MOST: usize = 64 << 20;
/// Unpacked in pieces of this many bytes.
const PIECE: usize = 256 << 10;

/// The parts of an image that could be looked at; elsewhere there is nothing to read.
pub struct Seen {
    parts: Vec<(u64, Vec<u8>)>,
    /// Size of all of it, where it is known.
    pub size: Option<u64>,
}

impl Seen {
    /// The start of an image, and the size of all of it where that is known.
    pub fn start(bytes: Vec<u8>, size: Option<u64>) -> Self {
        Self { parts: vec![(0, bytes)], size }
    }

    /// Of what is inside `packed`: its start.
    ///
    /// # Errors
    /// When the packed bytes are damaged that early.
    pub fn of(packed: &Packed) -> Result<Self, PackedFault> {
        let mut bytes = Vec::new();
        let limit = HEAD_BYTES as u64;
        let read = packed.stream().and_then(|stream| stream.take(limit).read_to_end(&mut bytes));
        read.map_err(|source| packed.damaged(bytes.len() as u64, source))?;
        let is_all = (bytes.len() as u64) < limit;
        let size = if is_all { Some(bytes.len() as u64) } else { packed.unpacked_bytes };
        Ok(Self::start(bytes, size))
    }

    /// Whether all of a range was looked at.
    pub fn holds(&self, range: &Range<u64>) -> bool {
        self.parts.iter().any(|(start, bytes)| {
            *start <= range.start && start.saturating_add(bytes.len() as u64) >= range.end.min(self.size())
        })
    }

    /// Unpacks on for the ranges that are wanted, as far as it comes within a fifth of a second.
    ///
    /// # Errors
    /// When the packed bytes are damaged before that.
    pub fn look_for(&mut self, packed: &Packed, wanted: &[Range<u64>]) -> Result<(), PackedFault> {
        let mut stream = packed.stream().map_err(|source| packed.damaged(0, source))?;
        let end = wanted.iter().map(|range| range.end).max().unwrap_or(0);
        let (began, mut at, mut kept) = (Instant::now(), 0u64, 0usize);
        let mut piece = vec![0u8; PIECE];
        while at < end && kept < KEPT_MOST && began.elapsed() < LOOK_MOST {
            let count = stream.read(&mut piece).map_err(|source| packed.damaged(at, source))?;
            if count == 0 {
                break;
            }
            let next = at.saturating_add(count as u64);
            let bytes = piece.get(..count).unwrap_or_default();
            for range in wanted.iter().filter(|range| range.start < next && range.end > at) {
                let from = usize::try_from(range.start.saturating_sub(at)).unwrap_or(usize::MAX);
                let to = usize::try_from(range.end.saturating_sub(at)).unwrap_or(usize::MAX).min(count);
                let part = bytes.get(from..to).unwrap_or_default();
                kept = kept.saturating_add(part.len());
                let start = at.saturating_add(from as u64);
                match self.parts.iter_mut().skip(1).find(|(at, bytes)| at.saturating_add(bytes.len() as u64) == start) {
                    Some((_, bytes)) => bytes.extend_from_slice(part),
                    None => self.parts.push((start, part.to_vec())),
                }
            }
            at = next;
        }
        Ok(())
    }
}

impl ReadAt for Seen {
    fn size(&self) -> u64 {
        // A size that nobody knows is larger than anything that a table may declare.
        self.size.unwrap_or(u64::MAX)
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        for (start, bytes) in &self.parts {
            match at.checked_sub(*start) {
                Some(inside) if inside < bytes.len() as u64 => return bytes.read_at(inside, into),
                _ => {}
            }
        }
        Ok(0)
    }
}
