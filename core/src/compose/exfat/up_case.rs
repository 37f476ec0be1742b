//! The table of capital letters that an exFAT volume brings along.
//!
//! Source: Microsoft, exFAT file system specification, section 7.2.

use crate::compose::letter_case::upper;

/// Up-case partners of the basic plane, with runs of letters that have none in two words each, section 7.2.5.
pub(super) fn up_case_table() -> Vec<u8> {
    let mut words: Vec<u16> = Vec::new();
    let mut run = 0u32;
    let end = |words: &mut Vec<u16>, run: u32, next: u32| match run {
        0 => {}
        // One letter takes no more as it is.
        1 => words.extend(u16::try_from(next.saturating_sub(1))),
        run => words.extend([0xFFFF, u16::try_from(run).unwrap_or(u16::MAX)]),
    };
    for code in 0..0xFFFFu16 {
        let partner = upper(code);
        // The first 128 letters stand there each by itself, section 7.2.5.1.
        if partner == code && code >= 128 {
            run = run.saturating_add(1);
            continue;
        }
        end(&mut words, run, u32::from(code));
        run = 0;
        words.push(partner);
    }
    end(&mut words, run.saturating_add(1), 0x1_0000);
    words.into_iter().flat_map(u16::to_le_bytes).collect()
}

/// The sum of section 3.4 and of section 7.2.2: turned right by one, and each byte added.
pub(super) fn checksum(bytes: impl Iterator<Item = u8>) -> u32 {
    bytes.fold(0u32, |sum, byte| sum.rotate_right(1).wrapping_add(u32::from(byte)))
}
