//! Parts with their places, read as one: zeros lie between them, and holes that stay as they are on the drive.

use std::fmt;
use std::io;
use std::ops::Range;
use std::sync::Arc;

use crate::bytes::{Part, ReadAt, clipped};
use crate::compose::chains::Chains;
use crate::compose::tree::FileBytes;

/// What lies at a place.
#[derive(Clone)]
enum SegmentContent<'a> {
    /// Bytes that were made.
    Made(Vec<u8>),
    /// An allocation table, made as it is read.
    Chains(Arc<Chains>),
    /// A range of something else, such as a file.
    Range { of: &'a dyn ReadAt, from: u64, bytes: u64 },
}

impl SegmentContent<'_> {
    fn size(&self) -> u64 {
        match self {
            Self::Made(bytes) => bytes.len() as u64,
            Self::Chains(chains) => chains.size(),
            Self::Range { bytes, .. } => *bytes,
        }
    }

    /// Fills all of `into` with what lies from byte `from` of it on.
    fn fill(&self, from: u64, into: &mut [u8]) -> io::Result<()> {
        let wanted = into.len();
        let count = match self {
            Self::Made(bytes) => bytes.fill_at(from, into)?,
            Self::Chains(chains) => chains.fill_at(from, into)?,
            Self::Range { of, from: start, bytes } => {
                Part { whole: *of, start: *start, bytes: *bytes }.fill_at(from, into)?
            }
        };
        let short = || io::Error::new(io::ErrorKind::UnexpectedEof, "a file ends before its length");
        (count == wanted).then_some(()).ok_or_else(short)
    }
}

impl PartialEq for SegmentContent<'_> {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Made(one), Self::Made(other)) => one == other,
            (Self::Chains(one), Self::Chains(other)) => one == other,
            // The same range of the very same thing: no byte of it is read.
            (Self::Range { of, from, bytes }, Self::Range { of: other, from: other_from, bytes: other_bytes }) => {
                std::ptr::addr_eq(*of, *other) && from == other_from && bytes == other_bytes
            }
            _ => false,
        }
    }
}

impl fmt::Debug for SegmentContent<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Made(bytes) => write!(f, "{} bytes", bytes.len()),
            Self::Chains(chains) => write!(f, "a table of {} bytes", chains.size()),
            Self::Range { from, bytes, .. } => write!(f, "{bytes} bytes from {from} on"),
        }
    }
}

/// What lies at a place, and where.
#[derive(Clone, Debug, PartialEq)]
struct Segment<'a> {
    at: u64,
    content: SegmentContent<'a>,
}

impl Segment<'_> {
    fn end(&self) -> u64 {
        self.at.saturating_add(self.content.size())
    }
}

/// What is to lie on a drive from its start on.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Composition<'a> {
    /// In order; none reaches into the next.
    segments: Vec<Segment<'a>>,
    /// In order: what stays as it is on the drive.
    holes: Vec<Range<u64>>,
    bytes: u64,
}

impl<'a> Composition<'a> {
    /// Of so many bytes, all zero.
    pub(crate) fn zeros(bytes: u64) -> Self {
        Self { segments: Vec::new(), holes: Vec::new(), bytes }
    }

    /// The same, longer: what is added stays as it is on the drive, as far as whole blocks lie in it; their rest becomes zeros.
    pub(crate) fn with_hole(self, end: u64) -> Self {
        let Self { segments, mut holes, bytes } = self;
        holes.extend(Some(bytes..end).filter(|hole| !hole.is_empty()));
        Self { segments, holes, bytes: end.max(bytes) }
    }

    /// The same, with zeros as far as `end`.
    pub(crate) fn with_zeros(self, end: u64) -> Self {
        Self { bytes: end.max(self.bytes), ..self }
    }

    /// The same, with all of another one at a place behind it.
    pub(crate) fn with_all(self, at: u64, other: Self) -> Self {
        let mut made = self.with_zeros(at.saturating_add(other.bytes));
        made.put_all(at, other);
        made
    }

    /// The same, with bytes behind all of it.
    pub(crate) fn with_end(mut self, bytes: Vec<u8>) -> Self {
        let at = self.bytes;
        self.bytes = self.bytes.saturating_add(bytes.len() as u64);
        self.put(at, bytes);
        self
    }

    /// Whether all of a stretch stays as it is on the drive.
    pub fn is_hole(&self, range: &Range<u64>) -> bool {
        let found = self.holes.partition_point(|hole| hole.end < range.end);
        self.holes.get(found).is_some_and(|hole| hole.start <= range.start && range.end <= hole.end)
    }

    /// How many bytes lie in its holes.
    pub fn hole_bytes(&self) -> u64 {
        self.holes.iter().map(|hole| hole.end.saturating_sub(hole.start)).sum()
    }

    /// Of so many bytes, of which only these parts matter, in order: all between them stays as it is on the drive.
    pub(crate) fn between_holes(bytes: u64, parts: impl Iterator<Item = (u64, Vec<u8>)>) -> Self {
        let mut made = Self::zeros(bytes);
        let mut end = 0;
        for (at, part) in parts {
            if at > end {
                made.holes.push(end..at);
            }
            end = at.saturating_add(part.len() as u64);
            made.put(at, part);
        }
        if end < bytes {
            made.holes.push(end..bytes);
        }
        made
    }

    /// Puts bytes behind all that were put before; those that do not fit are left out.
    pub(crate) fn put(&mut self, at: u64, bytes: Vec<u8>) {
        self.put_content(at, SegmentContent::Made(bytes));
    }

    /// The same, of an allocation table.
    pub(super) fn put_chains(&mut self, at: u64, chains: &Arc<Chains>) {
        self.put_content(at, SegmentContent::Chains(Arc::clone(chains)));
    }

    /// The same, of a file.
    pub(crate) fn put_file(&mut self, at: u64, file: &FileBytes<'a>) {
        match file {
            FileBytes::Made(bytes) => self.put(at, bytes.clone()),
            FileBytes::Parts { of, parts } => {
                let mut at = at;
                for part in parts {
                    let bytes = part.end.saturating_sub(part.start);
                    self.put_content(at, SegmentContent::Range { of: *of, from: part.start, bytes });
                    at = at.saturating_add(bytes);
                }
            }
        }
    }

    fn put_content(&mut self, at: u64, content: SegmentContent<'a>) {
        let last = self.segments.last().map_or(0, Segment::end);
        let segment = Segment { at, content };
        debug_assert!(at >= last && segment.end() <= self.bytes, "parts come in order and fit");
        if at >= last && segment.end() <= self.bytes && segment.content.size() > 0 {
            self.segments.push(segment);
        }
    }

    /// Puts all of another one at a place.
    pub(crate) fn put_all(&mut self, at: u64, other: Self) {
        for Segment { at: inner, content } in other.segments {
            self.put_content(at.saturating_add(inner), content);
        }
        let there = |place: u64| at.saturating_add(place);
        self.holes.extend(other.holes.into_iter().map(|hole| there(hole.start)..there(hole.end)));
    }
}

/// What a drive of so many bytes holds once a composition is on it, as far as is known: zeros behind its end.
pub struct OnDrive<'a> {
    /// What is on it.
    pub made: &'a Composition<'a>,
    /// Size of the drive, in bytes.
    pub drive_bytes: u64,
}

impl ReadAt for OnDrive<'_> {
    fn size(&self) -> u64 {
        self.drive_bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let into = clipped(self.drive_bytes, at, into);
        if at >= self.made.size() {
            into.fill(0);
            return Ok(into.len());
        }
        self.made.read_at(at, into)
    }
}

impl ReadAt for Composition<'_> {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let into = clipped(self.bytes, at, into);
        into.fill(0);
        let end = at.saturating_add(into.len() as u64);
        let first = self.segments.partition_point(|segment| segment.end() <= at);
        for segment in self.segments.iter().skip(first).take_while(|segment| segment.at < end) {
            let place = |bytes: u64| usize::try_from(bytes).unwrap_or(usize::MAX);
            let (from, to) = (place(segment.at.saturating_sub(at)), place(segment.end().min(end).saturating_sub(at)));
            if let Some(part) = into.get_mut(from..to) {
                segment.content.fill(at.saturating_sub(segment.at), part)?;
            }
        }
        Ok(into.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_part_of_it_reads_as_all_of_it_does(
            parts in proptest::collection::vec((0u64..50, 1usize..40), 0..8), at in 0u64..500, count in 0usize..300,
        ) {
            let (mut composition, mut whole, mut next) = (Composition::zeros(400), vec![0u8; 400], 0u64);
            for (number, (gap, length)) in parts.into_iter().enumerate() {
                let place = next + gap;
                if place + length as u64 > 400 {
                    break;
                }
                whole[place as usize..place as usize + length].fill(number as u8 + 1);
                composition.put(place, vec![number as u8 + 1; length]);
                next = place + length as u64;
            }
            let mut read = vec![0xAA; count];
            let got = composition.read_at(at, &mut read).unwrap();
            let from = (at as usize).min(400);
            prop_assert_eq!(got, count.min(400 - from));
            prop_assert_eq!(&read[..got], &whole[from..from + got]);
        }
    }
}
