//! Volume labels that do not stand in the superblock, but in a structure that it leads to.
//!
//! Promise: any bytes give an answer, never a panic, with one or two reads of bounded size.

use std::io;

use crate::bytes::ReadAt;
use crate::bytes::field::{take, u16_le, u32_le, u64_le, utf16_be, utf16_le};

/// Most bytes read at one place.
const READ_MOST: u64 = 64 << 10;

fn read(volume: &dyn ReadAt, at: Option<u64>, bytes: Option<u64>) -> io::Result<Vec<u8>> {
    let (Some(at), Some(bytes)) = (at, bytes) else { return Ok(Vec::new()) };
    let mut raw = vec![0u8; usize::try_from(bytes.min(READ_MOST)).unwrap_or_default()];
    let count = volume.fill_at(at, &mut raw)?;
    raw.truncate(count);
    Ok(raw)
}

/// exFAT specification, §3.1 (boot sector) and §7.3 (volume label entry): in the first cluster of the root folder.
pub(super) fn exfat(volume: &dyn ReadAt, boot: &[u8]) -> io::Result<Option<String>> {
    let place = || {
        let sector = 1u64.checked_shl(u32::from(*boot.get(108)?))?;
        let cluster = sector.checked_mul(1u64.checked_shl(u32::from(*boot.get(109)?))?)?;
        let heap = u64::from(u32_le(boot, 88)?).checked_mul(sector)?;
        let index = u64::from(u32_le(boot, 96)?.checked_sub(2)?);
        Some((heap.checked_add(index.checked_mul(cluster)?)?, cluster))
    };
    let (at, bytes) = place().unzip();
    let folder = read(volume, at, bytes)?;
    let entry = folder.chunks_exact(32).find(|entry| entry.first() == Some(&0x83));
    Ok(entry.and_then(|entry| {
        let units = usize::from(*entry.get(1)?).min(11);
        utf16_le(entry.get(2..)?.get(..units.checked_mul(2)?)?)
    }))
}

/// The name of an LVM volume group: the first word of its text, which the metadata area's header at 4 KiB leads to, as LVM's own tools
/// lay it out (` LVM2 x[5A%r0N*>` at 4, the offset of the text at 40).
pub(super) fn lvm_group(volume: &dyn ReadAt, head: &[u8]) -> io::Result<Option<String>> {
    const AREA: usize = 4096;
    const NAME_MOST: u64 = 128;
    let is_area = head.get(AREA..).and_then(|area| take(area, 4)) == Some(*b" LVM2 x[5A%r0N*>");
    let offset = head.get(AREA..).and_then(|area| u64_le(area, 40)).filter(|_| is_area);
    let text = read(volume, offset.and_then(|offset| offset.checked_add(AREA as u64)), Some(NAME_MOST))?;
    let name = text.split(|byte| *byte == b' ').next().unwrap_or_default();
    let is_name = |byte: &u8| byte.is_ascii_alphanumeric() || b"+_.-".contains(byte);
    Ok((!name.is_empty() && name.iter().all(is_name)).then(|| String::from_utf8_lossy(name).into_owned()))
}

/// NTFS: record 3 of the master file table is `$Volume`, its attribute 0x60 the name (boot sector: table's cluster at 48,
/// size of a record at 64).
pub(super) fn ntfs(volume: &dyn ReadAt, boot: &[u8]) -> io::Result<Option<String>> {
    const VOLUME_RECORD: u64 = 3;
    let place = || {
        let cluster = u64::from(u16_le(boot, 11)?).checked_mul(u64::from(*boot.get(13)?))?;
        // A negative size is a power of two in bytes.
        let record = match *boot.get(64)? {
            clusters @ 0..=127 => u64::from(clusters).checked_mul(cluster)?,
            power => 1u64.checked_shl(u32::from(power.wrapping_neg()))?,
        };
        let table = u64_le(boot, 48)?.checked_mul(cluster)?;
        Some((table.checked_add(record.checked_mul(VOLUME_RECORD)?)?, record))
    };
    let (at, bytes) = place().unzip();
    let mut record = read(volume, at, bytes)?;
    Ok(ntfs_name(&mut record))
}

fn ntfs_name(record: &mut [u8]) -> Option<String> {
    if take(record, 0)? != *b"FILE" {
        return None;
    }
    // The last two bytes of each sector are kept in the update sequence, behind its first number.
    let sequence = usize::from(u16_le(record, 4)?);
    for sector in 1..usize::from(u16_le(record, 6)?).min(129) {
        let real: [u8; 2] = take(record, sequence.checked_add(sector.checked_mul(2)?)?)?;
        let end = sector.checked_mul(512)?;
        record.get_mut(end.checked_sub(2)?..end)?.copy_from_slice(&real);
    }
    let mut at = usize::from(u16_le(record, 20)?);
    for _ in 0..32 {
        let length = usize::try_from(u32_le(record, at.checked_add(4)?)?).ok()?;
        if u32_le(record, at)? == 0x60 {
            let bytes = usize::try_from(u32_le(record, at.checked_add(16)?)?).ok()?;
            let start = at.checked_add(usize::from(u16_le(record, at.checked_add(20)?)?))?;
            return utf16_le(record.get(start..start.checked_add(bytes)?)?);
        }
        at = at.checked_add(length.max(8))?;
    }
    None
}

/// HFS+ (Technical Note TN1150): the first record of the catalogue's first leaf is the root folder, whose key holds its name.
pub(super) fn hfsplus(volume: &dyn ReadAt, head: &[u8]) -> io::Result<Option<String>> {
    let big = |data: &[u8], at| take(data, at).map(u32::from_be_bytes).map(u64::from);
    // Volume header at 1024: block size at 40; the catalogue's first extent at 272 + 16.
    let catalogue = || big(head, 1024 + 288)?.checked_mul(big(head, 1024 + 40)?);
    let catalogue = catalogue();
    let header = read(volume, catalogue, Some(512))?;
    // Header record behind the node's 14 bytes: first leaf at 10, size of a node at 18.
    let node_bytes = take(&header, 32).map(u16::from_be_bytes).map(u64::from);
    let leaf = || catalogue?.checked_add(big(&header, 24)?.checked_mul(node_bytes?)?);
    let node = read(volume, leaf(), node_bytes)?;
    let name = || {
        let key: [u8; 8] = take(&node, 14)?;
        let [_, _, parent @ .., _, _] = key;
        let units = usize::from(u16::from_be_bytes(take(&node, 20)?)).min(255);
        (u32::from_be_bytes(parent) == 1).then_some(())?;
        utf16_be(node.get(22..)?.get(..units.checked_mul(2)?)?)
    };
    Ok(name())
}
