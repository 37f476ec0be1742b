//! ext2, ext3 and ext4: what lies in the root folder, and how much is taken.
//!
//! Source: the kernel's Documentation/filesystems/ext4 (superblock, group descriptors, inodes, extents, linked directories).

use std::io;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::bytes::ReadAt;
use crate::bytes::field::{u16_le, u32_le};
use crate::volume::{ITEMS_MOST, Item};

//   of the superblock, at 1024:           offset   type
const SUPERBLOCK: u64 = 1024;
const BLOCKS_LOW: usize = 0x4; //            u32
const FREE_LOW: usize = 0xC; //              u32
const FIRST_BLOCK: usize = 0x14; //          u32
const BLOCK_SHIFT: usize = 0x18; //          u32, above 1 KiB
const INODES_PER_GROUP: usize = 0x28; //     u32
const REVISION: usize = 0x4C; //             u32
const INODE_SIZE: usize = 0x58; //           u16
const INCOMPATIBLE: usize = 0x60; //         u32
const DESCRIPTOR_SIZE: usize = 0xFE; //      u16
const BLOCKS_HIGH: usize = 0x150; //         u32
const FREE_HIGH: usize = 0x158; //           u32
const HAS_64_BIT: u32 = 0x80;
const HAS_META_GROUPS: u32 = 0x10;

//   of a group descriptor:
const TABLE_LOW: usize = 0x8; //             u32
const TABLE_HIGH: usize = 0x28; //           u32

//   of an inode:
const MODE: usize = 0x0; //                  u16
const SIZE_LOW: usize = 0x4; //              u32
const MODIFIED: usize = 0x10; //             u32, seconds since 1970
const FLAGS: usize = 0x20; //                u32
const BLOCK_MAP: usize = 0x28; //            60 bytes
const SIZE_HIGH: usize = 0x6C; //            u32
const INODE_BYTES: usize = 128;
const HAS_EXTENTS: u32 = 0x8_0000;
const IS_FOLDER: u16 = 0x4000;
const KIND: u16 = 0xF000;

const ROOT: u32 = 2;
const EXTENT_MAGIC: u16 = 0xF30A;
/// Deepest tree of extents, and most blocks of a folder that are read.
const DEPTH_MOST: u16 = 5;
const BLOCKS_MOST: usize = 256;

struct Ext<'a> {
    volume: &'a dyn ReadAt,
    block: u64,
    inodes_per_group: u32,
    inode_size: u64,
    descriptors: u64,
    descriptor_size: u64,
    has_64_bit: bool,
}

/// What lies in the root folder, and how many bytes are taken.
pub fn top(volume: &dyn ReadAt) -> io::Result<(Option<Vec<Item>>, Option<u64>)> {
    let mut raw = [0u8; 1024];
    volume.fill_at(SUPERBLOCK, &mut raw)?;
    let Some((ext, used)) = read(volume, &raw) else { return Ok((None, None)) };
    let items = match ext {
        Some(ext) => ext.root()?,
        None => None,
    };
    Ok((items, used))
}

/// The shape of the volume, unless its groups are laid out in a way that is not read here; and how much of it is taken.
fn read<'a>(volume: &'a dyn ReadAt, raw: &[u8]) -> Option<(Option<Ext<'a>>, Option<u64>)> {
    let block = 1024u64.checked_shl(u32_le(raw, BLOCK_SHIFT)?).filter(|block| (1024..=65_536).contains(block))?;
    let incompatible = u32_le(raw, INCOMPATIBLE)?;
    let has_64_bit = incompatible & HAS_64_BIT != 0;
    let wide = |low: usize, high: usize| {
        let high = if has_64_bit { u32_le(raw, high)? } else { 0 };
        Some(u64::from(high) << 32 | u64::from(u32_le(raw, low)?))
    };
    let taken = wide(BLOCKS_LOW, BLOCKS_HIGH)?.checked_sub(wide(FREE_LOW, FREE_HIGH)?);
    let used = taken.and_then(|blocks| blocks.checked_mul(block));
    let is_old = u32_le(raw, REVISION)? == 0;
    let ext = Ext {
        volume,
        block,
        inodes_per_group: u32_le(raw, INODES_PER_GROUP)?,
        inode_size: if is_old { INODE_BYTES as u64 } else { u64::from(u16_le(raw, INODE_SIZE)?) },
        descriptors: u64::from(u32_le(raw, FIRST_BLOCK)?).checked_add(1)?.checked_mul(block)?,
        descriptor_size: if has_64_bit { u64::from(u16_le(raw, DESCRIPTOR_SIZE)?).max(64) } else { 32 },
        has_64_bit,
    };
    Some(((incompatible & HAS_META_GROUPS == 0).then_some(ext), used))
}

impl Ext<'_> {
    fn inode(&self, number: u32) -> io::Result<Option<[u8; INODE_BYTES]>> {
        let Some(at) = self.inode_at(number)? else { return Ok(None) };
        let mut raw = [0u8; INODE_BYTES];
        Ok((self.volume.fill_at(at, &mut raw)? == INODE_BYTES).then_some(raw))
    }

    fn inode_at(&self, number: u32) -> io::Result<Option<u64>> {
        let index = number.checked_sub(1);
        let group = index.and_then(|index| index.checked_div(self.inodes_per_group));
        let inside = index.and_then(|index| index.checked_rem(self.inodes_per_group));
        let (Some(group), Some(inside)) = (group, inside) else { return Ok(None) };
        let mut raw = [0u8; 64];
        let skip = u64::from(group).saturating_mul(self.descriptor_size);
        self.volume.fill_at(self.descriptors.saturating_add(skip), &mut raw)?;
        let high = if self.has_64_bit { u32_le(&raw, TABLE_HIGH).unwrap_or(0) } else { 0 };
        let table = u64::from(high) << 32 | u64::from(u32_le(&raw, TABLE_LOW).unwrap_or(0));
        let skip = u64::from(inside).saturating_mul(self.inode_size);
        Ok(table.checked_mul(self.block).and_then(|at| at.checked_add(skip)))
    }

    fn root(&self) -> io::Result<Option<Vec<Item>>> {
        let Some(root) = self.inode(ROOT)? else { return Ok(None) };
        let map = root.get(BLOCK_MAP..BLOCK_MAP.saturating_add(60)).unwrap_or_default();
        let mut blocks = Vec::new();
        if u32_le(&root, FLAGS).unwrap_or(0) & HAS_EXTENTS != 0 {
            self.extents(map, DEPTH_MOST, &mut blocks)?;
        } else {
            // Twelve blocks are named in the inode itself; a root folder that is longer is told in part.
            blocks.extend((0..12usize).filter_map(|place| u32_le(map, place.checked_mul(4)?)).map(u64::from));
        }
        let mut items = Vec::new();
        let mut raw = vec![0u8; usize::try_from(self.block).unwrap_or_default()];
        for block in blocks.into_iter().filter(|block| *block > 0).take(BLOCKS_MOST) {
            let Some(at) = block.checked_mul(self.block) else { continue };
            let count = self.volume.fill_at(at, &mut raw)?;
            self.entries(raw.get(..count).unwrap_or_default(), &mut items)?;
        }
        Ok(Some(items))
    }

    /// The blocks that a node of the tree of extents leads to.
    fn extents(&self, node: &[u8], depth_most: u16, blocks: &mut Vec<u64>) -> io::Result<()> {
        let (Some(magic), Some(count), Some(depth)) = (u16_le(node, 0), u16_le(node, 2), u16_le(node, 6)) else {
            return Ok(());
        };
        if magic != EXTENT_MAGIC || depth > depth_most {
            return Ok(());
        }
        for entry in node.get(12..).unwrap_or_default().chunks_exact(12).take(usize::from(count)) {
            if blocks.len() >= BLOCKS_MOST {
                break;
            }
            let number =
                |low: usize, high: usize| Some(u64::from(u16_le(entry, high)?) << 32 | u64::from(u32_le(entry, low)?));
            if depth == 0 {
                let (Some(length), Some(start)) = (u16_le(entry, 4), number(8, 6)) else { continue };
                blocks.extend((0..u64::from(length & 0x7FFF)).map(|more| start.saturating_add(more)).take(BLOCKS_MOST));
            } else if let Some(at) = number(4, 8).and_then(|block| block.checked_mul(self.block)) {
                let mut raw = vec![0u8; usize::try_from(self.block).unwrap_or_default()];
                self.volume.fill_at(at, &mut raw)?;
                self.extents(&raw, depth.saturating_sub(1), blocks)?;
            }
        }
        Ok(())
    }

    /// The entries of one block of a folder.
    fn entries(&self, mut rest: &[u8], items: &mut Vec<Item>) -> io::Result<()> {
        while let (Some(inode), Some(length)) = (u32_le(rest, 0), u16_le(rest, 4)) {
            let name_bytes = rest.get(6).copied().map(usize::from).unwrap_or_default();
            let name = rest.get(8..8usize.saturating_add(name_bytes)).unwrap_or_default();
            if length < 8 || items.len() >= ITEMS_MOST {
                break;
            }
            if inode != 0 && !matches!(name, [] | b"." | b".." | b"lost+found") {
                let found = self.inode(inode)?;
                let read = |at| found.as_ref().and_then(|raw| u32_le(raw, at)).map(u64::from).unwrap_or(0);
                let mode = found.as_ref().and_then(|raw| u16_le(raw, MODE)).unwrap_or(0);
                let is_folder = mode & KIND == IS_FOLDER;
                let seconds = i64::try_from(read(MODIFIED)).ok().filter(|seconds| *seconds > 0);
                let modified = seconds.and_then(|seconds| Timestamp::from_second(seconds).ok());
                items.push(Item {
                    name: String::from_utf8_lossy(name)
                        .chars()
                        .map(|c| if c.is_control() { '\u{FFFD}' } else { c })
                        .collect(),
                    is_folder,
                    bytes: if is_folder { 0 } else { read(SIZE_HIGH) << 32 | read(SIZE_LOW) },
                    modified: modified.map(|time| time.to_zoned(TimeZone::UTC).datetime()),
                });
            }
            rest = rest.get(usize::from(length)..).unwrap_or_default();
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::process::Command;

    #[test]
    fn a_volume_of_the_systems_own_tool_is_listed() {
        let folder = tempfile::tempdir().unwrap();
        let top_folder = folder.path().join("top");
        std::fs::create_dir_all(top_folder.join("Pictures")).unwrap();
        std::fs::write(top_folder.join("letter.txt"), "Dear Ann").unwrap();
        (0..200).for_each(|number| {
            std::fs::write(top_folder.join(format!("scan of page number {number:03}.png")), "").unwrap()
        });
        for kind in ["ext2", "ext4"] {
            let path = folder.path().join(kind);
            let made = Command::new("/sbin/mke2fs")
                .args(["-q", "-t", kind, "-d"])
                .args([&top_folder, &path])
                .arg("8M")
                .output();
            let made = made.expect("e2fsprogs is installed");
            assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
            let bytes = std::fs::read(&path).unwrap();
            let (items, used) = top(&bytes).unwrap();
            let mut items = items.unwrap();
            items.sort_by(|a, b| a.name.cmp(&b.name));
            assert_eq!(items.len(), 202, "{kind}");
            let year = jiff::Timestamp::now().to_zoned(TimeZone::UTC).year();
            assert!(
                items.iter().all(|item| item.modified.is_some_and(|time| (year - 1..=year).contains(&time.year())))
            );
            assert_eq!((items[0].name.as_str(), items[0].is_folder), ("Pictures", true));
            assert_eq!((items[1].name.as_str(), items[1].bytes), ("letter.txt", 8));
            assert!((10_000..8 << 20).contains(&used.unwrap()), "{used:?}");
        }
    }

    proptest! {
        #[test]
        fn no_superblock_makes_it_panic(mut bytes in prop::collection::vec(any::<u8>(), 4096..9000), shift in 0u8..7) {
            bytes[1024 + BLOCK_SHIFT..1024 + BLOCK_SHIFT + 4].copy_from_slice(&[shift, 0, 0, 0]);
            let _ = top(&bytes);
        }
    }
}
