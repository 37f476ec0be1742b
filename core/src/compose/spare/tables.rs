//! An image's own partition tables with further partitions in them: what changes of them, and the copy at the drive's end.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::bytes::ReadAt;
use crate::bytes::field::put;
use crate::compose::error::ComposeError;
use crate::compose::gpt::{GptEntry, sign};
use crate::compose::guid::{on_disk, uuid};
use crate::compose::mbr::mbr_entry;
use crate::compose::spare::fault::SpareFault;
use crate::image::{Inspection, Kind};
use crate::volume::filesystem;
use crate::volume::gpt::{self, ALTERNATE_LBA, ENTRY_CRC, ENTRY_LBA, GptFault, LAST_USABLE, MY_LBA, RawTable};
use crate::volume::mbr::{self, ENTRY_BYTES, FIRST_ENTRY, Mbr, PartitionType};

/// Sectors in which a master boot record counts that shows no others, in bytes.
const SECTOR: u32 = 512;
/// An entry of a hybrid image may be rounded up to a whole cylinder: 255 heads of 63 sectors, of 8 MiB nearly.
const ROUNDED_MOST: u64 = 255 * 63 * 512;
/// Entries that are longer are no entries: those in use have 128 bytes.
const ENTRY_MOST: usize = 4096;
const MBR: &str = "master boot record";
const GPT: &str = "GUID partition table";
/// Where the count of sectors lies in an entry of a master boot record (UEFI 2.10, section 5.2.1).
const ENTRY_SECTORS: usize = 12;

/// A partition that is to be entered.
pub(super) struct FurtherPartition<'a> {
    /// Where it lies, in bytes.
    pub range: Range<u64>,
    pub mbr_type: PartitionType,
    pub gpt_type: [u8; 16],
    pub label: &'a str,
}

/// The drive for which tables are renewed.
#[derive(Clone, Copy)]
pub(super) struct TableDrive {
    /// Its size, in whole sectors, in bytes.
    pub bytes: u64,
    pub sector: u32,
    pub serial: u32,
}

/// The tables of an image.
pub(super) struct ImageTables {
    mbr: Mbr,
    gpt: Option<RawTable>,
}

/// What the tables become.
#[derive(Default)]
pub(super) struct Renewed {
    /// What changes in the image, by its places.
    pub altered: BTreeMap<u64, Vec<u8>>,
    /// What ends the drive.
    pub end: Vec<u8>,
    /// The number of each partition, as systems count them.
    pub numbers: Vec<u32>,
    /// What is worth knowing.
    pub notes: Vec<String>,
}

impl ImageTables {
    /// Reads the tables of an image for a drive with sectors of this size.
    pub(super) fn read(image: &dyn ReadAt, seen: &Inspection, sector: u32) -> Result<Self, SpareFault> {
        let mut record = vec![0; mbr::MBR_BYTES];
        image.fill_at(0, &mut record)?;
        let counts_in = seen.tables.sector_bytes.unwrap_or(SECTOR);
        // What looks like a table is none where a volume takes the whole drive.
        let whole = filesystem::recognise(image)?;
        let is_table =
            matches!(seen.kind, Kind::Iso9660 | Kind::Disk) && whole.is_none_or(|whole| whole.name == "iso9660");
        let mbr = mbr::parse(&record, counts_in).filter(|mbr| is_table && !mbr.entries.is_empty());
        let mbr = mbr.ok_or(SpareFault::NoTable)?;
        if counts_in != sector {
            return Err(SpareFault::Sectors { table: counts_in, drive: sector });
        }
        let gpt = match gpt::raw(image, sector)? {
            Ok(table) if table.entry_bytes > ENTRY_MOST || table.entries_at < 2 * u64::from(sector) => {
                return Err(SpareFault::Damaged { why: "its entries lie where none belong".to_owned() });
            }
            Ok(table) => Some(table),
            Err(GptFault::Missing { .. }) if !mbr.is_protective() => None,
            Err(fault) => return Err(SpareFault::Damaged { why: fault.to_string() }),
        };
        Ok(Self { mbr, gpt })
    }

    /// Where the last entry of its record ends that reaches no further than what entries are rounded up by, behind `image_end`.
    pub(super) fn rounded_end(&self, image_end: u64) -> u64 {
        let ends = self.mbr.claims().map(|entry| entry.start.saturating_add(entry.bytes));
        ends.filter(|end| *end <= image_end.saturating_add(ROUNDED_MOST)).fold(image_end, u64::max)
    }

    /// How many bytes at a drive's end belong to them.
    pub(super) fn end_bytes(&self, sector: u32) -> u64 {
        let entries = self.gpt.as_ref().map(|table| table.entries.len() as u64);
        entries.map_or(0, |bytes| bytes.next_multiple_of(u64::from(sector)).saturating_add(u64::from(sector)))
    }

    /// The tables with these partitions in them.
    pub(super) fn renewed(
        &self,
        partitions: &[FurtherPartition<'_>],
        drive: TableDrive,
    ) -> Result<Renewed, SpareFault> {
        let mut made = Renewed::default();
        let full = || match self.free().count() < partitions.len() {
            true => SpareFault::Full { table: MBR },
            false => ComposeError::Table { bytes: drive.bytes }.into(),
        };
        made.numbers = match &self.gpt {
            None => self.enter(partitions, drive, &mut made).ok_or_else(full)?,
            // A record that only covers a GPT has no partitions of its own.
            Some(table) if self.mbr.claims().next().is_none() => {
                self.cover(drive, &mut made);
                renew(table, partitions, drive, &mut made)?
            }
            Some(table) => {
                let by_record = self.enter(partitions, drive, &mut made);
                let by_table = renew(table, partitions, drive, &mut made)?;
                // Linux takes a GPT that no entry covers for none (its block/partitions/efi.c).
                match by_record {
                    Some(numbers) if !self.mbr.is_protective() => numbers,
                    None if !self.mbr.is_protective() => return Err(full()),
                    Some(_) => by_table,
                    None => {
                        made.notes.push(format!("it stands in the {GPT} alone: the {MBR} has no free entry for it"));
                        by_table
                    }
                }
            }
        };
        if self.mbr.claims().next().is_some() {
            for entry in &self.mbr.entries {
                let end = entry.start.saturating_add(entry.bytes);
                if partitions.iter().any(|one| entry.start <= one.range.start && one.range.start < end) {
                    made.notes.push(format!("entry {} of the image's {MBR} already covers its place", entry.number));
                }
            }
        }
        Ok(made)
    }

    /// The numbers of the record's free entries.
    fn free(&self) -> impl Iterator<Item = u32> {
        (1..=4).filter(|number| self.mbr.entries.iter().all(|entry| entry.number != *number))
    }

    /// Enters them in the record; nothing where it has too few free entries, or does not count so far.
    fn enter(&self, partitions: &[FurtherPartition<'_>], drive: TableDrive, into: &mut Renewed) -> Option<Vec<u32>> {
        let sector = u64::from(drive.sector);
        let count = |bytes: u64| u32::try_from(bytes.checked_div(sector)?).ok();
        let numbers: Vec<u32> = self.free().take(partitions.len()).collect();
        if numbers.len() < partitions.len() {
            return None;
        }
        let entries = numbers.iter().zip(partitions).map(|(number, one)| {
            let length = one.range.end.checked_sub(one.range.start)?;
            let entry = mbr_entry(one.mbr_type, count(one.range.start)?, count(length)?);
            Some((place_of(*number), entry))
        });
        into.altered.extend(entries.collect::<Option<Vec<_>>>()?);
        Some(numbers)
    }

    /// Lets the entry that covers the GPT cover the whole drive (UEFI 2.10, section 5.2.3).
    fn cover(&self, drive: TableDrive, into: &mut Renewed) {
        let sectors = drive.bytes.checked_div(u64::from(drive.sector)).unwrap_or_default();
        for entry in self.mbr.entries.iter().filter(|entry| entry.kind == PartitionType::GPT_PROTECTIVE) {
            let first = entry.start.checked_div(u64::from(drive.sector)).unwrap_or_default();
            let count = u32::try_from(sectors.saturating_sub(first)).unwrap_or(u32::MAX);
            into.altered
                .insert(place_of(entry.number).saturating_add(ENTRY_SECTORS as u64), count.to_le_bytes().into());
        }
    }
}

/// Where an entry of a master boot record lies.
fn place_of(number: u32) -> u64 {
    let index = u64::from(number.saturating_sub(1));
    (FIRST_ENTRY as u64).saturating_add(index.saturating_mul(ENTRY_BYTES as u64))
}

/// Enters them in a GPT, and makes its copy for the drive's end. Gives their numbers.
fn renew(
    table: &RawTable,
    partitions: &[FurtherPartition<'_>],
    drive: TableDrive,
    into: &mut Renewed,
) -> Result<Vec<u32>, SpareFault> {
    let sector = u64::from(drive.sector);
    let block = |bytes: u64| bytes.checked_div(sector).unwrap_or_default();
    let mut entries = table.entries.clone();
    let mut numbers = Vec::new();
    for (count, one) in partitions.iter().enumerate() {
        let mut free =
            entries.chunks_exact_mut(table.entry_bytes).zip(1u32..).filter(|(raw, _)| raw.iter().all(|b| *b == 0));
        let (raw, number) = free.next().ok_or(SpareFault::Full { table: GPT })?;
        let guid = on_disk(uuid(drive.serial, &format!("spare {count}")));
        let partition = block(one.range.start)..block(one.range.end);
        GptEntry { kind: one.gpt_type, guid, partition, name: one.label }.put_into(raw);
        let at = u64::from(number.saturating_sub(1)).saturating_mul(table.entry_bytes as u64);
        into.altered.insert(table.entries_at.saturating_add(at), raw.to_vec());
        numbers.push(number);
    }
    let last = block(drive.bytes).saturating_sub(1);
    let array_blocks = (entries.len() as u64).div_ceil(sector.max(1));
    let array_at = last.saturating_sub(array_blocks);
    let mut start = table.header.clone();
    put(&mut start, ALTERNATE_LBA, &last.to_le_bytes());
    put(&mut start, LAST_USABLE, &array_at.saturating_sub(1).to_le_bytes());
    put(&mut start, ENTRY_CRC, &crc32fast::hash(&entries).to_le_bytes());
    let covered = start.len();
    sign(&mut start, covered);
    let mut end = start.clone();
    for (place, number) in [(MY_LBA, last), (ALTERNATE_LBA, 1), (ENTRY_LBA, array_at)] {
        put(&mut end, place, &number.to_le_bytes());
    }
    sign(&mut end, covered);
    end.resize(usize::try_from(sector).unwrap_or_default(), 0);
    into.altered.insert(sector, start);
    entries.resize(usize::try_from(array_blocks.saturating_mul(sector)).unwrap_or_default(), 0);
    into.end = [entries, end].concat();
    Ok(numbers)
}
