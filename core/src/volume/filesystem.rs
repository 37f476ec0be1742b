//! File systems by their superblocks: what is this volume formatted with, and what is it called?
//!
//! Promise: any bytes give an answer, never a panic, in memory bounded by [`HEAD_BYTES`].

use std::io;

use crate::bytes::ReadAt;
use crate::bytes::field::{take, text, u16_le, u32_le, u64_le};
use crate::volume::fat::Width;
use crate::volume::{fat, iso9660, labels, udf};

/// How much of a volume is looked at, in bytes; btrfs keeps its superblock at 64 KiB.
pub const HEAD_BYTES: usize = 68 << 10;

/// A file system that was recognised.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileSystem {
    /// Its usual name, such as `fat32` or `ext4`.
    pub name: &'static str,
    /// The volume's label.
    pub label: Option<String>,
    /// Length that the superblock declares, in bytes.
    pub bytes: Option<u64>,
    /// How many drives it spans, where it says.
    pub drives: Option<u64>,
}

struct Magic {
    name: &'static str,
    at: usize,
    is: &'static [u8],
    label: Label,
    bytes: fn(&[u8]) -> Option<u64>,
}

/// Where a volume's label is.
enum Label {
    /// Nowhere that is read here.
    Unread,
    /// In the superblock: offset and length.
    At(usize, usize),
    /// In a structure that the superblock leads to.
    Behind(fn(&dyn ReadAt, &[u8]) -> io::Result<Option<String>>),
}

fn unsaid(_: &[u8]) -> Option<u64> {
    None
}

/// One row each; the source is the structure that the system's own tools document.
const TABLE: [Magic; 13] = [
    // NTFS boot sector: total sectors at 40, bytes per sector at 11.
    Magic {
        name: "ntfs",
        at: 3,
        is: b"NTFS    ",
        label: Label::Behind(labels::ntfs),
        bytes: |raw| u64_le(raw, 40)?.checked_mul(u64::from(u16_le(raw, 11)?)),
    },
    // exFAT specification, §3.1: volume length at 72, in sectors of 2^(byte 108) bytes.
    Magic {
        name: "exfat",
        at: 3,
        is: b"EXFAT   ",
        label: Label::Behind(labels::exfat),
        bytes: |raw| u64_le(raw, 72)?.checked_mul(1u64.checked_shl(u32::from(*raw.get(108)?))?),
    },
    // XFS superblock: block size at 4 and blocks at 8, big-endian; name at 108.
    Magic {
        name: "xfs",
        at: 0,
        is: b"XFSB",
        label: Label::At(108, 12),
        bytes: |raw| {
            let block = take(raw, 4).map(u32::from_be_bytes)?;
            take(raw, 8).map(u64::from_be_bytes)?.checked_mul(u64::from(block))
        },
    },
    // LUKS header: label of version 2 at 24.
    Magic { name: "luks", at: 0, is: b"LUKS\xBA\xBE", label: Label::At(24, 48), bytes: unsaid },
    // Squashfs 4.0 superblock: bytes used at 40.
    Magic { name: "squashfs", at: 0, is: b"hsqs", label: Label::Unread, bytes: |raw| u64_le(raw, 40) },
    // HFS+ volume header at 1024: block size at 40 and blocks at 44, big-endian.
    Magic {
        name: "hfsplus",
        at: 1024,
        is: b"H+\0\x04",
        label: Label::Behind(labels::hfsplus),
        bytes: |raw| {
            let number = |at| take(raw, at).map(u32::from_be_bytes).map(u64::from);
            number(1064)?.checked_mul(number(1068)?)
        },
    },
    // Linux swap header: the signature ends the first page; label at 1052.
    Magic { name: "swap", at: 4086, is: b"SWAPSPACE2", label: Label::At(1052, 16), bytes: unsaid },
    // btrfs superblock at 64 KiB: total bytes at 0x70, label at 0x12B.
    Magic {
        name: "btrfs",
        at: 0x1_0040,
        is: b"_BHRfS_M",
        label: Label::At(0x1_012B, 255),
        bytes: |raw| u64_le(raw, 0x1_0070),
    },
    // Members of something larger. LVM2 physical volume: its label lies in the second sector, as its own tools write it.
    Magic { name: "lvm2", at: 512, is: b"LABELONE", label: Label::Behind(labels::lvm_group), bytes: unsaid },
    // Linux md superblock of version 1.2, at 4 KiB (the kernel's md_p.h).
    Magic { name: "md", at: 4096, is: &MD_MAGIC, label: Label::At(4096 + 32, 32), bytes: unsaid },
    // The same of version 1.1, at the very start.
    Magic { name: "md", at: 0, is: &MD_MAGIC, label: Label::At(32, 32), bytes: unsaid },
    // bcache superblock: its magic at 4 KiB + 24 (the kernel's bcache.h).
    Magic {
        name: "bcache",
        at: 4096 + 24,
        is: &[0xC6, 0x85, 0x73, 0xF6, 0x4E, 0x1A, 0x45, 0xCA, 0x82, 0x65, 0xF5, 0x7F, 0x48, 0xBA, 0x6D, 0x81],
        label: Label::At(4096 + 72, 32),
        bytes: unsaid,
    },
    // ext superblock at 1024: label at 120. Which of the family it is follows from the features.
    Magic {
        name: "ext2",
        at: 1080,
        is: &[0x53, 0xEF],
        label: Label::At(1144, 16),
        bytes: |raw| u64::from(u32_le(raw, 1028)?).checked_mul(1024u64.checked_shl(u32_le(raw, 1048)?)?),
    },
];

/// Magic number of Linux md superblocks (the kernel's md_p.h).
const MD_MAGIC: [u8; 4] = [0xFC, 0x4E, 0x2B, 0xA9];

/// Whether an md superblock of version 1.0 or 0.90 lies at the end of this volume: 8 KiB before it at a multiple of 4 KiB, or in the
/// last whole 64 KiB (the kernel's md_p.h and Documentation/admin-guide/md.rst).
fn is_md_by_its_end(volume: &dyn ReadAt) -> io::Result<bool> {
    let size = volume.size();
    let aligned = |before: u64, to: u64| Some(size.checked_sub(before)? & !to.saturating_sub(1));
    let old = (size & !0xFFFF).checked_sub(0x1_0000);
    for at in [aligned(8192, 4096), old].into_iter().flatten() {
        let mut magic = [0u8; 4];
        if volume.fill_at(at, &mut magic)? == magic.len() && magic == MD_MAGIC {
            return Ok(true);
        }
    }
    Ok(false)
}

/// How many drives the file system or array spans, where its superblock says: btrfs at 0x88 of it, md at 92 of it.
fn drives(name: &str, at: usize, head: &[u8]) -> Option<u64> {
    match name {
        "btrfs" => u64_le(head, 0x1_0088),
        "md" => u32_le(head, at.checked_add(92)?).map(u64::from),
        _ => None,
    }
}

/// Where the uberblocks of the first ZFS label begin, how long they are together, and each of them, in bytes (OpenZFS on-disk
/// format, §1.3).
const UBERBLOCKS: u64 = 128 << 10;
const UBERBLOCKS_BYTES: usize = 128 << 10;
const UBERBLOCK: usize = 1024;
/// The first bytes of an uberblock, in either order.
const UBERBLOCK_MAGIC: u64 = 0x00BA_B10C;

/// Whether this is a member of a ZFS pool.
fn is_zfs(volume: &dyn ReadAt) -> io::Result<bool> {
    let mut all = vec![0u8; UBERBLOCKS_BYTES];
    let count = volume.fill_at(UBERBLOCKS, &mut all)?;
    all.truncate(count);
    let is_one = |block: &[u8]| {
        u64_le(block, 0).is_some_and(|magic| magic == UBERBLOCK_MAGIC || magic.swap_bytes() == UBERBLOCK_MAGIC)
    };
    Ok(all.chunks(UBERBLOCK).any(is_one))
}

/// Which file system fills `volume`, if any that is known here.
///
/// # Errors
/// When the volume can't be read.
pub fn recognise(volume: &dyn ReadAt) -> io::Result<Option<FileSystem>> {
    if let Some(fat) = fat::read(volume)? {
        let name = match fat.width {
            Width::Fat12 => "fat12",
            Width::Fat16 => "fat16",
            Width::Fat32 => "fat32",
        };
        return Ok(Some(FileSystem { name, label: fat.label, bytes: Some(fat.bytes), drives: None }));
    }
    let mut head = vec![0u8; HEAD_BYTES];
    let count = volume.fill_at(0, &mut head)?;
    head.truncate(count);
    let known = TABLE.iter().find(|magic| head.get(magic.at..).is_some_and(|rest| rest.starts_with(magic.is)));
    if let Some(magic) = known {
        return Ok(Some(FileSystem {
            name: if magic.name == "ext2" { ext_name(&head) } else { magic.name },
            label: match magic.label {
                Label::Unread => None,
                Label::At(at, length) => text(&head, at, length),
                Label::Behind(read) => read(volume, &head)?,
            },
            bytes: (magic.bytes)(&head),
            drives: drives(magic.name, magic.at, &head),
        }));
    }
    if let Some(iso) = iso9660::read(volume)?.and_then(Result::ok) {
        return Ok(Some(FileSystem {
            name: "iso9660",
            label: iso.label,
            bytes: Some(iso.declared_bytes),
            drives: None,
        }));
    }
    if let Some(udf) = udf::read(volume)? {
        return Ok(Some(FileSystem { name: "udf", label: udf.label, bytes: None, drives: None }));
    }
    let member = |name| FileSystem { name, label: None, bytes: None, drives: None };
    if is_md_by_its_end(volume)? {
        return Ok(Some(member("md")));
    }
    Ok(is_zfs(volume)?.then(|| member("zfs")))
}

/// ext3 has a journal (compatible feature 4); ext4 has extents (incompatible feature 0x40); a device with the journal of another
/// volume alone has incompatible feature 8, and is called as the kernel calls its journal.
fn ext_name(head: &[u8]) -> &'static str {
    let (compatible, incompatible) = (u32_le(head, 1116).unwrap_or(0), u32_le(head, 1120).unwrap_or(0));
    match (compatible & 4 != 0, incompatible & 0x40 != 0) {
        _ if incompatible & 8 != 0 => "jbd",
        (_, true) => "ext4",
        (true, false) => "ext3",
        (false, false) => "ext2",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A volume of zeros with these bytes at these places.
    fn volume(parts: &[(usize, &[u8])]) -> Vec<u8> {
        let mut volume = vec![0u8; HEAD_BYTES];
        for (at, bytes) in parts {
            volume[*at..*at + bytes.len()].copy_from_slice(bytes);
        }
        volume
    }

    #[test]
    fn members_of_something_larger_are_known() {
        let name = |bytes: Vec<u8>| recognise(&bytes).unwrap().map(|found| (found.name, found.label));
        let mut pool = vec![0u8; 256 << 10];
        pool[(130 << 10)..(130 << 10) + 8].copy_from_slice(&UBERBLOCK_MAGIC.to_be_bytes());
        assert_eq!(name(pool), Some(("zfs", None)));
        assert_eq!(name(volume(&[(512, b"LABELONE")])), Some(("lvm2", None)));
        let array = volume(&[(4096, &[0xFC, 0x4E, 0x2B, 0xA9]), (4128, b"bench:cellar")]);
        assert_eq!(name(array), Some(("md", Some("bench:cellar".to_owned()))));
        assert_eq!(name(vec![0u8; 256 << 10]), None);
    }

    #[test]
    fn each_file_system_is_known_by_its_superblock() {
        let ext = |compatible: u8, incompatible: u8| {
            // Blocks at 1028, size of a block as a power of two above 1 KiB at 1048, label at 1144.
            let parts: [(usize, &[u8]); 6] = [
                (1080, &[0x53, 0xEF]),
                (1028, &[0, 1]),
                (1048, &[2]),
                (1116, &[compatible]),
                (1120, &[incompatible]),
                (1144, b"cellar"),
            ];
            volume(&parts)
        };
        let volumes = [
            // Table at cluster 1, records of 1024 bytes; the name's third letter lies where a sector's number is kept.
            volume(&[
                (3, b"NTFS    "),
                (11, &[0, 2, 1]),
                (40, &[0, 8]),
                (48, &[1]),
                (64, &[0xF6]),
                (512 + 3072, b"FILE\x28\0\x03\0\x01\0"),
                (512 + 3072 + 20, &[0xF0, 1]),
                (512 + 3072 + 40, &[1, 0, b'f', 0, 0, 0]),
                (512 + 3072 + 496, &[0x60, 0, 0, 0, 0x20]),
                (512 + 3072 + 496 + 16, b"\x08\0\0\0\x0A\0"),
                (512 + 3072 + 506, b"l\0o\0\x01\0t\0"),
            ]),
            // Heap at sector 4, clusters of 2 sectors, root folder in cluster 3.
            volume(&[
                (3, b"EXFAT   "),
                (72, &[0, 8]),
                (88, &[4]),
                (96, &[3]),
                (108, &[9, 1]),
                (6 * 512 + 32, b"\x83\x04s\0h\0e\0d\0x\0"),
            ]),
            volume(&[(0, b"XFSB\0\0\x10\0\0\0\0\0\0\0\x01\0"), (108, b"attic")]),
            volume(&[(0, b"LUKS\xBA\xBE"), (24, b"vault")]),
            volume(&[(0, b"hsqs"), (40, &[0, 0, 1])]),
            // Catalogue in block 2; nodes of 512 bytes, first leaf is node 3.
            volume(&[
                (1024, b"H+\0\x04"),
                (1064, &[0, 0, 0x10, 0]),
                (1068, &[0, 0, 1, 0]),
                (1312, &[0, 0, 0, 2]),
                (8192 + 24, &[0, 0, 0, 3]),
                (8192 + 32, &[2, 0]),
                (8192 + 3 * 512 + 14, b"\0\x0E\0\0\0\x01\0\x04\0y\0a\0r\0d"),
            ]),
            volume(&[(4086, b"SWAPSPACE2"), (1052, b"night")]),
            volume(&[(0x1_0040, b"_BHRfS_M"), (0x1_0070, &[0, 0, 1]), (0x1_012B, b"garden")]),
            ext(0, 0),
            ext(4, 0),
            ext(4, 0x40),
            ext(0, 8),
            volume(&[]),
        ];
        let told: Vec<String> = volumes
            .iter()
            .map(|volume| match recognise(volume).unwrap() {
                Some(FileSystem { name, label, bytes, .. }) => format!("{name} {label:?} {bytes:?}"),
                None => "nothing".to_owned(),
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r#"
        ntfs Some("loft") Some(1048576)
        exfat Some("shed") Some(1048576)
        xfs Some("attic") Some(1048576)
        luks Some("vault") None
        squashfs None Some(65536)
        hfsplus Some("yard") Some(1048576)
        swap Some("night") None
        btrfs Some("garden") Some(65536)
        ext2 Some("cellar") Some(1048576)
        ext3 Some("cellar") Some(1048576)
        ext4 Some("cellar") Some(1048576)
        jbd Some("cellar") Some(1048576)
        nothing
        "#);
    }

    #[test]
    #[ignore = "needs mkfs.vfat, mkfs.exfat, mke2fs, mkswap and blkid"]
    fn labels_are_those_of_blkid() {
        use std::process::Command;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("volume.img");
        let run = |words: &str| {
            let words: Vec<&str> = words.split_whitespace().collect();
            let done = Command::new(words[0]).args(&words[1..]).arg(&path).output().unwrap();
            assert!(done.status.success(), "{words:?} {}", String::from_utf8_lossy(&done.stderr));
            String::from_utf8(done.stdout).unwrap().trim().to_owned()
        };
        for make in [
            "mkfs.vfat -F 12 -n SMALL",
            "mkfs.vfat -F 16 -n MIDDLE",
            "mkfs.vfat -F 32 -n LARGE",
            "mkfs.vfat -F 32",
            "mkfs.exfat -L cellar",
            "mke2fs -q -F -t ext2 -L attic",
            "mke2fs -q -F -t ext4 -L loft",
            "mke2fs -q -F -O journal_dev -L notes",
            "mkswap -L night",
        ] {
            let bytes = if make.contains("-F 12") { 2 << 20 } else { 80 << 20 };
            std::fs::File::create(&path).unwrap().set_len(bytes).unwrap();
            run(make);
            // A new name in the root folder, as systems give it: the boot sector keeps the old one.
            let mut volume = std::fs::read(&path).unwrap();
            if let Some(at) =
                volume.windows(12).position(|entry| entry[11] == 8 && entry[..5].is_ascii() && entry[0] > b' ')
            {
                volume[at..at + 11].copy_from_slice(b"RENAMED    ");
                std::fs::write(&path, &volume).unwrap();
            }
            let found = recognise(&volume).unwrap().unwrap();
            let label = Command::new("blkid").args(["-p", "-o", "value", "-s", "LABEL"]).arg(&path).output().unwrap();
            let label = String::from_utf8(label.stdout).unwrap().trim().to_owned();
            assert_eq!(found.label.unwrap_or_default(), label, "{make}");
            if make.contains("journal_dev") {
                assert_eq!((found.name, run("blkid -p -o value -s TYPE").as_str()), ("jbd", "jbd"));
            }
        }
    }

    proptest! {
        #[test]
        fn no_superblock_makes_it_panic(row in 0usize..TABLE.len(), hits in proptest::collection::vec((0usize..HEAD_BYTES, any::<[u8; 8]>()), 0..20)) {
            let mut volume = volume(&[(TABLE[row].at, TABLE[row].is)]);
            for (at, bytes) in hits {
                let end = (at + 8).min(HEAD_BYTES);
                volume[at..end].copy_from_slice(&bytes[..end - at]);
            }
            let _ = recognise(&volume).unwrap();
        }
    }
}
