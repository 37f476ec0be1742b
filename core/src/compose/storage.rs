//! Plain storage: a drive with one empty volume, in a partition or without a table.

use serde::{Deserialize, Serialize};

use crate::bytes::MIB;
use crate::compose::VolumeKind;
use crate::compose::composition::Composition;
use crate::compose::error::ComposeError;
use crate::compose::gpt::{GptCopies, GptTable};
use crate::compose::mbr::mbr;
use crate::compose::tree::Tree;
use crate::compose::volume::WantedVolume;

/// The partition begins here: at a piece that flash memory erases at once.
const FIRST_BYTE: u64 = 4 * MIB;
/// Below this there is no room for the distance.
const SMALL: u64 = 64 * MIB;
const FIRST_BYTE_OF_SMALL: u64 = MIB;
/// So much at the drive's end stays empty: a copy of a GPT lies there on others, and must not come back.
const LAST_BYTES: u64 = MIB;

/// Which table of partitions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TableForm {
    /// A master boot record.
    Mbr,
    /// A GUID partition table.
    Gpt,
    /// None: the volume takes the whole drive.
    None,
}

impl TableForm {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Mbr, Self::Gpt, Self::None];

    /// The one that every PC knows, as far as it counts to the end of a drive of this size.
    pub fn for_size(drive_bytes: u64, sector_bytes: u32) -> Self {
        let blocks = drive_bytes.checked_div(u64::from(sector_bytes.max(512))).unwrap_or_default();
        if u32::try_from(blocks).is_ok() { Self::Mbr } else { Self::Gpt }
    }

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Mbr => "mbr",
            Self::Gpt => "gpt",
            Self::None => "none",
        }
    }
}

/// What the drive is to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Storage {
    /// Size of the drive, in bytes.
    pub drive_bytes: u64,
    /// Its smallest unit, in bytes.
    pub sector_bytes: u32,
    /// What volume.
    pub kind: VolumeKind,
    /// In which table.
    pub table: TableForm,
    /// As [`VolumeKind::label`] gives it; empty for none.
    pub label: String,
    /// Tells this volume from others: its serial number, and the drive's signature.
    pub serial: u32,
}

/// A serial number for the volume of the drive with this tag that is made at this time: another time, another number.
pub fn serial(tag: &str, started: &str) -> u32 {
    let digest = blake3::hash(format!("{tag} {started}").as_bytes());
    digest.as_bytes().first_chunk().copied().map_or(1, u32::from_le_bytes)
}

/// What is to lie at the drive's start; all that comes behind it is free.
///
/// # Errors
/// When the drive is too small or too large for that.
pub fn storage(wanted: &Storage) -> Result<Composition<'static>, ComposeError> {
    storage_with(wanted, &Tree::default())
}

/// The same, with files.
///
/// # Errors
/// When the drive is too small or too large for that, or the volume does not hold all of them.
pub fn storage_with<'a>(wanted: &Storage, tree: &Tree<'a>) -> Result<Composition<'a>, ComposeError> {
    let Storage { drive_bytes, sector_bytes, kind, table, ref label, serial } = *wanted;
    let sector = u64::from(sector_bytes.max(512));
    let first = match table {
        TableForm::None => 0,
        TableForm::Mbr | TableForm::Gpt if drive_bytes < SMALL => FIRST_BYTE_OF_SMALL,
        TableForm::Mbr | TableForm::Gpt => FIRST_BYTE,
    };
    let last = drive_bytes.saturating_sub(LAST_BYTES);
    let bytes = last.saturating_sub(first);
    let bytes = bytes.saturating_sub(bytes.checked_rem(sector).unwrap_or_default());
    let no_table = || ComposeError::Table { bytes: drive_bytes };
    let blocks = |bytes: u64| u32::try_from(bytes.checked_div(sector).unwrap_or_default());
    let hidden = blocks(first).map_err(|_| no_table())?;
    let wanted = WantedVolume { kind, start: first, bytes, sector, label, serial };
    let volume = wanted.made(tree)?;
    let mut made = Composition::zeros(first.saturating_add(crate::bytes::ReadAt::size(&volume)));
    match table {
        TableForm::None => made.put_all(first, volume),
        TableForm::Mbr => {
            let count = blocks(bytes).map_err(|_| no_table())?;
            made.put(0, mbr(wanted.mbr_type(), hidden, count, serial));
            made.put_all(first, volume);
        }
        TableForm::Gpt => {
            let count = |bytes: u64| bytes.checked_div(sector).unwrap_or_default();
            let partition = count(first)..count(first.saturating_add(bytes));
            let blocks = count(drive_bytes);
            let kind = wanted.gpt_type();
            let whole = GptTable { block_bytes: sector, blocks, partition, kind, name: label, serial };
            let GptCopies { start, end } = whole.copies();
            made.put(0, start);
            made.put_all(first, volume);
            let drive_bytes = blocks.saturating_mul(sector);
            let behind = first.saturating_add(bytes);
            let end_at = drive_bytes.saturating_sub(end.len() as u64).saturating_sub(behind);
            let mut tail = vec![0u8; usize::try_from(end_at).unwrap_or_default()];
            tail.extend(end);
            made = made.with_hole(behind).with_end(tail);
        }
    }
    Ok(made)
}

#[cfg(test)]
mod tests {
    use std::process::Command;

    use proptest::prelude::*;

    use super::*;
    use crate::bytes::ReadAt;
    use crate::compose::tree::FileBytes;
    use crate::image::inspect;

    fn wanted(drive_bytes: u64, sector_bytes: u32, kind: VolumeKind, table: TableForm) -> Storage {
        let label = if kind == VolumeKind::Fat32 { "HOLIDAY" } else { "Ferien Üb" };
        Storage { drive_bytes, sector_bytes, kind, table, label: label.to_owned(), serial: 0x1234_5678 }
    }

    /// Whether a program of the system finds nothing wrong with a file.
    fn is_content(words: &[&str], file: &tempfile::NamedTempFile) -> bool {
        let output = Command::new(words[0]).args(&words[1..]).arg(file.path()).output();
        let packages = "apt-get install dosfstools exfatprogs e2fsprogs gdisk fdisk";
        let output = output.unwrap_or_else(|error| panic!("{packages}: {}: {error}", words[0]));
        let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success() && !text.contains("Problem:"), "{words:?}: {text}");
        true
    }

    /// What lies from `first` on, but for its holes, as a sparse file of so many bytes.
    fn as_file(made: &Composition, first: u64, bytes: u64) -> tempfile::NamedTempFile {
        let file = tempfile::NamedTempFile::new().unwrap();
        // What was on a drive before stays in the holes.
        if bytes < 256 * MIB {
            std::io::Write::write_all(&mut file.as_file(), &vec![0xC3; bytes as usize]).unwrap();
        }
        file.as_file().set_len(bytes).unwrap();
        let mut piece = vec![0; 4 << 20];
        for at in (first..made.size()).step_by(piece.len()) {
            if made.is_hole(&(at..(at + piece.len() as u64).min(made.size()))) {
                continue;
            }
            let count = made.fill_at(at, &mut piece).unwrap();
            let inside = &piece[..count.min(usize::try_from((first + bytes).saturating_sub(at)).unwrap())];
            std::os::unix::fs::FileExt::write_all_at(file.as_file(), inside, at - first).unwrap();
        }
        file
    }

    /// Whether the system's own checkers find nothing in the volume and its table, on sparse files of their true sizes.
    fn is_clean(storage: &Storage) -> bool {
        let made = self::storage(storage).unwrap();
        let first = match (storage.table, storage.drive_bytes < SMALL) {
            (TableForm::None, _) => 0,
            (_, true) => FIRST_BYTE_OF_SMALL,
            (_, false) => FIRST_BYTE,
        };
        let volume = as_file(&made, first, storage.drive_bytes - LAST_BYTES - first);
        let checker: &[&str] = match storage.kind {
            VolumeKind::Fat32 => &["fsck.fat", "-n"],
            VolumeKind::Exfat => &["fsck.exfat", "-n"],
            VolumeKind::Ext4 => &["e2fsck", "-f", "-n"],
        };
        let whole = || as_file(&made, 0, storage.drive_bytes);
        // The checkers of tables take a file for a drive with sectors of 512 bytes.
        is_content(checker, &volume)
            && (storage.sector_bytes != 512
                || storage.table == TableForm::None
                || is_content(&["sfdisk", "--verify"], &whole()))
            && (storage.sector_bytes != 512
                || storage.table != TableForm::Gpt
                || is_content(&["sgdisk", "-v"], &whole()))
    }

    #[test]
    #[ignore = "needs fsck.fat, fsck.exfat, sfdisk and sgdisk"]
    fn the_systems_checkers_find_nothing_in_any_size() {
        const GB: u64 = 1_000_000_000;
        for kind in VolumeKind::ALL {
            for bytes in [
                8 * MIB,
                9_000_448,
                64 * MIB,
                200 * MIB,
                530 * MIB,
                GB,
                4 * GB,
                16_008_609_792,
                32 * GB,
                256 * GB,
                1_900 * GB,
            ] {
                for (sector, table) in
                    [512, 4096].into_iter().flat_map(|sector| TableForm::ALL.map(|table| (sector, table)))
                {
                    // The system's own program is trusted with sizes between.
                    let is_told =
                        kind != VolumeKind::Ext4 || sector == 512 && [8 * MIB, 200 * MIB, 32 * GB].contains(&bytes);
                    assert!(!is_told || is_clean(&wanted(bytes / 4096 * 4096, sector, kind, table)));
                }
            }
        }
    }

    #[test]
    fn what_is_made_is_known_again_by_our_own_readers_and_short() {
        for kind in [VolumeKind::Fat32, VolumeKind::Exfat] {
            let made = storage(&wanted(32_000_000_000, 512, kind, TableForm::Mbr)).unwrap();
            assert!(made.size() < 24_000_000, "{kind:?}: {}", made.size());
            let seen = inspect(&made).unwrap();
            assert_eq!((seen.tables.mbr.len(), seen.tables.mbr[0].start), (1, FIRST_BYTE));
            assert_eq!(seen.tables.mbr[0].bytes, (32_000_000_000 - LAST_BYTES - FIRST_BYTE) / 512 * 512);
            assert!(seen.boots.is_empty(), "{:?}", seen.boots);
        }
        let too_large = wanted(3_000_000_000_000, 512, VolumeKind::Exfat, TableForm::Mbr);
        assert_eq!(storage(&too_large), Err(ComposeError::Table { bytes: 3_000_000_000_000 }));
        assert!(storage(&Storage { table: TableForm::None, ..too_large }).is_ok());
        assert!(matches!(
            storage(&wanted(MIB, 512, VolumeKind::Fat32, TableForm::Mbr)),
            Err(ComposeError::Size { .. })
        ));
    }

    #[test]
    fn a_volume_is_empty_has_its_name_and_starts_no_pc() {
        for (kind, bytes, filesystem, label) in [
            (VolumeKind::Fat32, 16_000_000_000, "fat32", "HOLIDAY"),
            (VolumeKind::Fat32, 48 * MIB, "fat16", "HOLIDAY"),
            (VolumeKind::Exfat, 64_000_000_000, "exfat", "Ferien Üb"),
        ] {
            for (table, sector) in TableForm::ALL.into_iter().flat_map(|table| [(table, 512), (table, 4096)]) {
                // So large a sector leaves no room for a volume so small.
                let Ok(made) = storage(&wanted(bytes / 4096 * 4096, sector, kind, table)) else {
                    assert!(sector == 4096 && bytes == 48 * MIB, "{kind:?} {bytes}");
                    continue;
                };
                let found = crate::contents::contents(&made).unwrap();
                let [one] = found.volumes.as_slice() else { panic!("{kind:?} {table:?}: {:?}", found.volumes) };
                assert_eq!(one.number, (table != TableForm::None).then_some(1));
                assert_eq!(one.volume.filesystem.as_deref(), Some(filesystem), "{table:?}");
                assert_eq!(one.volume.label.as_deref(), Some(label), "{table:?}");
                assert!(one.items.as_ref().is_none_or(Vec::is_empty), "{:?}", one.items);
                assert!(table == TableForm::None || inspect(&made).unwrap().boots.is_empty());
            }
        }
        // Without a label there is none, and the serial number is another at another time.
        let unnamed = Storage { label: String::new(), ..wanted(64 * MIB, 512, VolumeKind::Exfat, TableForm::None) };
        let found = crate::contents::contents(&storage(&unnamed).unwrap()).unwrap();
        assert_eq!(found.volumes[0].volume.label, None);
        assert_ne!(serial("590J1", "2026-11-23T08:00:00Z"), serial("590J1", "2026-11-23T08:00:01Z"));
    }

    #[test]
    #[ignore = "needs mkfs.ext4, e2fsck and debugfs"]
    fn what_the_systems_own_program_makes_is_known_by_our_reader_and_mostly_holes() {
        for table in TableForm::ALL {
            let made = storage(&wanted(16_000_000_000, 512, VolumeKind::Ext4, table)).unwrap();
            let found = crate::contents::contents(&made).unwrap();
            assert_eq!(found.volumes[0].volume.filesystem.as_deref(), Some("ext4"), "{table:?}");
            assert_eq!(found.volumes[0].volume.label.as_deref(), Some("Ferien Üb"), "{table:?}");
            assert!(made.hole_bytes() > 15_000_000_000, "{table:?}: {}", made.hole_bytes());
        }
        // Small files at its top come along, and no others.
        let ext4 = wanted(64 * MIB, 512, VolumeKind::Ext4, TableForm::None);
        let mut tree = Tree::default();
        tree.add_file("memory.txt", None, FileBytes::Made(b"everything\n".to_vec())).unwrap();
        let made = storage_with(&ext4, &tree).unwrap();
        let file = as_file(&made, 0, 64 * MIB);
        let said = Command::new("/usr/sbin/debugfs").args(["-R", "cat /memory.txt"]).arg(file.path()).output().unwrap();
        assert!(is_content(&["e2fsck", "-f", "-n"], &file) && said.stdout == b"everything\n");
        tree.add_file("etc/memory.txt", None, FileBytes::Made(Vec::new())).unwrap();
        assert_eq!(storage_with(&ext4, &tree), Err(ComposeError::NoFiles { kind: VolumeKind::Ext4 }));
        let small = wanted(2 * MIB, 512, VolumeKind::Ext4, TableForm::Mbr);
        assert!(matches!(storage(&small), Err(ComposeError::Size { kind: VolumeKind::Ext4, .. })));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn any_size_gives_a_volume_or_a_word(
            bytes in 0u64..4_000_000_000_000, small in 0u64..80 * MIB, is_small: bool, four: bool, exfat: bool, table in 0usize..3,
        ) {
            let kind = if exfat { VolumeKind::Exfat } else { VolumeKind::Fat32 };
            let form = TableForm::ALL[table];
            let bytes = if is_small { small } else { bytes };
            let wanted = wanted(bytes / 4096 * 4096, if four { 4096 } else { 512 }, kind, form);
            if let Ok(made) = storage(&wanted) {
                prop_assert!(made.size() <= bytes);
                prop_assert_eq!(storage(&wanted).unwrap(), made);
            }
        }
    }
}
