//! The MD5 that some families of systems put into the volume descriptor, with sums of fragments that locate damage.
//!
//! The application use area (ECMA-119, §8.4.32) holds text such as `ISO MD5SUM = 9c…;SKIPSECTORS = 15;FRAGMENT SUMS = …;
//! FRAGMENT COUNT = 20;`. No standard describes it; this follows the images themselves: the MD5 is that of the volume
//! without its last SKIPSECTORS sectors, with the application use area read as spaces. A fragment's sum is the first digits of
//! the running MD5, taken each time another part of the volume has been read.
//! Promise: any descriptor gives an answer, never a panic, in memory bounded by one sector.

use std::io;

use md5::{Digest as _, Md5};

use crate::bytes::{ReadAt, read_block};
use crate::hash::Taker;
use crate::volume::iso9660::{IsoVolume, SECTOR};

/// Where the area lies in the image, in bytes: the descriptor is in sector 16, the area at its offset 883 (BP 884–1395).
const AREA: std::ops::Range<u64> = 16 * SECTOR as u64 + 883..16 * SECTOR as u64 + 1395;
/// The running sum is looked at when another block of this many bytes has been read.
const STEP: u64 = 32 << 10;
/// Most sectors at the end that may be left out, and most fragments.
const SKIPPED_MOST: u64 = 1 << 16;
const FRAGMENTS_MOST: usize = 64;

/// What the descriptor says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Embedded {
    hex: String,
    /// First digits of the running sum at the end of each fragment.
    fragments: Vec<Vec<u8>>,
    /// How many bytes are summed.
    bytes: u64,
}

/// How an image came out against its embedded sum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EmbeddedReport {
    /// How many bytes were summed.
    pub bytes: u64,
    /// MD5 that the image names.
    pub expected: String,
    /// MD5 that its bytes have.
    pub found: String,
    /// First and last byte between which the first damage lies, as far as the fragments tell.
    pub damaged: Option<(u64, u64)>,
}

impl EmbeddedReport {
    /// Whether the two are the same.
    pub fn ok(&self) -> bool {
        self.expected == self.found
    }
}

/// Reads what the volume's descriptor says; `None` if it says nothing.
///
/// # Errors
/// When the image can't be read.
pub fn embedded(image: &dyn ReadAt, volume: &IsoVolume) -> io::Result<Option<Embedded>> {
    let Some(area) = read_block::<512>(image, AREA.start)? else { return Ok(None) };
    Ok(parse(&String::from_utf8_lossy(area.as_slice()), volume.declared_bytes))
}

fn parse(area: &str, volume_bytes: u64) -> Option<Embedded> {
    let value = |key: &str| {
        let fields = area.split(';').filter_map(|field| field.split_once('='));
        fields.into_iter().find(|(name, _)| name.trim() == key).map(|(_, value)| value.trim().to_ascii_lowercase())
    };
    let is_hex = |text: &String| text.bytes().all(|byte| byte.is_ascii_hexdigit());
    let hex = value("ISO MD5SUM").filter(|hex| hex.len() == 32 && is_hex(hex))?;
    let skipped: u64 = value("SKIPSECTORS")?.parse().ok().filter(|sectors| *sectors <= SKIPPED_MOST)?;
    let bytes = volume_bytes.checked_sub(skipped.checked_mul(SECTOR as u64)?).filter(|bytes| *bytes > 0)?;
    let count: usize = value("FRAGMENT COUNT").and_then(|count| count.parse().ok()).unwrap_or(0);
    let sums = value("FRAGMENT SUMS").filter(is_hex).unwrap_or_default().into_bytes();
    let digits = sums.len().checked_div(count).filter(|digits| (1..=8).contains(digits) && count <= FRAGMENTS_MOST);
    let fragments = digits.map(|digits| sums.chunks_exact(digits).take(count).map(<[u8]>::to_vec).collect());
    Some(Embedded { hex, fragments: fragments.unwrap_or_default(), bytes })
}

/// Computes the embedded sum while the image is read.
pub(super) struct Summing<'a> {
    embedded: &'a Embedded,
    sum: Md5,
    at: u64,
    fragment: usize,
    damaged: Option<(u64, u64)>,
    /// Up to where the fragments matched.
    whole_until: u64,
}

impl<'a> Summing<'a> {
    /// Begins at the image's first byte.
    pub(super) fn new(embedded: &'a Embedded) -> Self {
        Self { embedded, sum: Md5::new(), at: 0, fragment: 0, damaged: None, whole_until: 0 }
    }

    /// How it came out.
    pub(super) fn finish(self) -> EmbeddedReport {
        let found = data_encoding::HEXLOWER.encode(&self.sum.finalize());
        let expected = self.embedded.hex.clone();
        let rest = Some((self.whole_until, self.embedded.bytes.saturating_sub(1)));
        let damaged = if found == expected { None } else { self.damaged.or(rest) };
        EmbeddedReport { bytes: self.embedded.bytes, expected, found, damaged }
    }

    /// Takes in bytes that end at or before the next step.
    fn take_step(&mut self, bytes: &[u8]) {
        let area = AREA.start.max(self.at)..AREA.end.min(self.at.saturating_add(bytes.len() as u64));
        if area.is_empty() {
            self.sum.update(bytes);
        } else {
            let mut blanked = bytes.to_vec();
            let place = |at: u64| usize::try_from(at.saturating_sub(self.at)).unwrap_or(usize::MAX);
            if let Some(area) = blanked.get_mut(place(area.start)..place(area.end)) {
                area.fill(b' ');
            }
            self.sum.update(&blanked);
        }
        self.at = self.at.saturating_add(bytes.len() as u64);
        if self.at.is_multiple_of(STEP) || self.at == self.embedded.bytes {
            self.compare();
        }
    }

    /// A fragment ends with the first block that begins in the next one.
    fn compare(&mut self) {
        let count = self.embedded.fragments.len() as u64;
        let length = self.embedded.bytes.checked_div(count.saturating_add(1)).unwrap_or(0).max(1);
        let block = self.at.saturating_sub(1).checked_div(STEP).unwrap_or(0).saturating_mul(STEP);
        let reached = usize::try_from(block.checked_div(length).unwrap_or(0)).unwrap_or(usize::MAX);
        if reached == self.fragment {
            return;
        }
        self.fragment = reached;
        let Some(expected) = reached.checked_sub(1).and_then(|index| self.embedded.fragments.get(index)) else {
            return;
        };
        let sum = self.sum.clone().finalize();
        // One digit of each byte: its first without leading zeros.
        let digit = |byte: &u8| char::from_digit(u32::from(if *byte < 16 { *byte } else { *byte >> 4 }), 16);
        let found = sum.iter().filter_map(digit);
        if found.zip(expected).all(|(found, expected)| found == char::from(*expected)) {
            if self.damaged.is_none() {
                self.whole_until = self.at;
            }
        } else if self.damaged.is_none() {
            self.damaged = Some((self.whole_until, self.at.saturating_sub(1)));
        }
    }
}

impl Taker for Summing<'_> {
    fn take(&mut self, bytes: &[u8]) {
        let mut rest = bytes;
        while self.at < self.embedded.bytes && !rest.is_empty() {
            let to_step = STEP.saturating_sub(self.at.checked_rem(STEP).unwrap_or(0));
            let want = to_step.min(self.embedded.bytes.saturating_sub(self.at));
            let (step, more) =
                rest.split_at_checked(usize::try_from(want).unwrap_or(usize::MAX)).unwrap_or((rest, &[]));
            self.take_step(step);
            rest = more;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::volume::iso9660;
    use proptest::prelude::*;
    use std::sync::LazyLock;

    static SAMPLE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::cafe::compact().build());

    fn sum(image: &Vec<u8>) -> EmbeddedReport {
        let volume = iso9660::read(image).unwrap().unwrap().unwrap();
        let embedded = embedded(image, &volume).unwrap().unwrap();
        let mut summing = Summing::new(&embedded);
        image.chunks(100_003).for_each(|chunk| summing.take(chunk));
        summing.finish()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]

        #[test]
        fn a_changed_byte_lies_in_the_range_that_is_told(place in any::<prop::sample::Index>()) {
            let mut image = SAMPLE.clone();
            let report = sum(&image);
            prop_assert!(report.ok() && report.damaged.is_none());
            // What lies before the descriptors would change the volume itself, and the last sectors are left out.
            let at = 40 * SECTOR + place.index(report.bytes as usize - 40 * SECTOR);
            image[at] ^= 0x10;
            let (first, last) = sum(&image).damaged.unwrap();
            prop_assert!((first..=last).contains(&(at as u64)), "{at} is not in {first} to {last}");
            prop_assert!(last - first < report.bytes / 8, "{first} to {last} locates nothing");
        }

        #[test]
        fn no_area_makes_it_panic(area in "\\PC{0,512}", bytes: u64, count in 0u32..100, sums in "[0-9a-f]{0,80}") {
            let _ = parse(&area, bytes);
            let text = format!("ISO MD5SUM = {};SKIPSECTORS = 15;FRAGMENT SUMS = {sums};FRAGMENT COUNT = {count};", "0".repeat(32));
            if let Some(embedded) = parse(&text, bytes) {
                Summing::new(&embedded).take(&[0; 70_000]);
            }
        }
    }
}
