//! Folders of an exFAT volume, entry by entry.
//!
//! Source: Microsoft, exFAT file system specification, sections 6.3 (sets of entries and their sum), 7.4 (files), 7.6 (streams),
//! 7.7 (names).

use crate::bytes::field::put;
use crate::compose::error::ComposeError;
use crate::compose::letter_case::upper;
use crate::compose::placing::{ClusterRun, Placing};
use crate::compose::stamp::DosStamp;
use crate::compose::tree::{Tree, TreeContent, TreeItem};
use crate::compose::volume_kind::VolumeKind;
use crate::volume::exfat as on_disk;

/// Code units of a name in each of its entries, section 7.7.3.
const UNITS: usize = 15;
/// A folder has no more bytes, section 7.6.7.
const BYTES_MOST: u64 = 256 << 20;
/// Fields of a file's entry that readers here do not look at, section 7.4.
const SECONDARY_COUNT: usize = 1;
const SET_SUM: usize = 2;
const CREATED: usize = 8;
const ACCESSED: usize = 16;
const CREATED_HUNDREDTHS: usize = 20;
/// And of a stream's, section 7.6.
const NAME_HASH: usize = 4;
const VALID_LENGTH: usize = 8;
/// It may have clusters, section 6.3.4.1.
const MAY_HAVE_CLUSTERS: u8 = 0x01;

/// How many bytes the entries of a folder take, beside `own` ones that it begins with.
pub(super) fn folder_bytes(tree: &Tree<'_>, number: usize, own: usize) -> Result<u64, ComposeError> {
    let entries = tree.in_folder(number).map(|(_, item)| entries_of(&item.name)).fold(own, usize::saturating_add);
    let bytes = (entries as u64).saturating_mul(on_disk::ENTRY as u64);
    if bytes > BYTES_MOST {
        return Err(ComposeError::FullFolder { path: tree.path(number), kind: VolumeKind::Exfat });
    }
    Ok(bytes)
}

/// A file, its stream, and its name in pieces.
fn entries_of(name: &str) -> usize {
    name.encode_utf16().count().div_ceil(UNITS).saturating_add(2)
}

/// The entries of what lies in a folder, on a volume whose clusters have so many bytes.
pub(super) fn folder(tree: &Tree<'_>, number: usize, placing: &Placing, cluster: u64) -> Vec<u8> {
    tree.in_folder(number).flat_map(|(number, item)| set(item, placing.run(number), cluster)).collect()
}

/// The entries of a file or folder.
fn set(item: &TreeItem<'_>, run: ClusterRun, cluster: u64) -> Vec<u8> {
    let units: Vec<u16> = item.name.encode_utf16().collect();
    let (attribute, bytes) = match &item.content {
        // A folder's length is all that it has.
        TreeContent::Folder(_) => (on_disk::ATTRIBUTE_FOLDER, u64::from(run.count).saturating_mul(cluster)),
        TreeContent::File(bytes) => (on_disk::ATTRIBUTE_ARCHIVE, bytes.size()),
    };
    let DosStamp { day, time, hundredths } = DosStamp::of(item.modified);
    let stamp = [time.to_le_bytes(), day.to_le_bytes()].concat();
    let mut file = [0u8; on_disk::ENTRY];
    put(&mut file, 0, &[on_disk::FILE]);
    put(&mut file, SECONDARY_COUNT, &[u8::try_from(units.len().div_ceil(UNITS).saturating_add(1)).unwrap_or_default()]);
    put(&mut file, on_disk::ATTRIBUTES, &attribute.to_le_bytes());
    for at in [CREATED, on_disk::MODIFIED, ACCESSED] {
        put(&mut file, at, &stamp);
    }
    put(&mut file, CREATED_HUNDREDTHS, &[hundredths, hundredths]);
    let mut stream = [0u8; on_disk::ENTRY];
    let flags = if run.count > 0 { MAY_HAVE_CLUSTERS | on_disk::IN_ONE_PIECE } else { MAY_HAVE_CLUSTERS };
    put(&mut stream, 0, &[on_disk::STREAM]);
    put(&mut stream, on_disk::STREAM_FLAGS, &[flags]);
    put(&mut stream, on_disk::NAME_LENGTH, &[u8::try_from(units.len()).unwrap_or_default()]);
    put(&mut stream, NAME_HASH, &hash(&units).to_le_bytes());
    put(&mut stream, VALID_LENGTH, &bytes.to_le_bytes());
    put(&mut stream, on_disk::FIRST_CLUSTER, &run.first.to_le_bytes());
    put(&mut stream, on_disk::DATA_LENGTH, &bytes.to_le_bytes());
    let mut set = [file, stream].concat();
    for piece in units.chunks(UNITS) {
        let mut entry = [0u8; on_disk::ENTRY];
        put(&mut entry, 0, &[on_disk::NAME_PART]);
        put(
            &mut entry,
            on_disk::NAME_TEXT.start,
            &piece.iter().flat_map(|unit| unit.to_le_bytes()).collect::<Vec<u8>>(),
        );
        set.extend(entry);
    }
    let sum = set.iter().enumerate().filter(|(at, _)| !(SET_SUM..SET_SUM.saturating_add(2)).contains(at));
    let sum = turned_sum(sum.map(|(_, byte)| *byte));
    put(&mut set, SET_SUM, &sum.to_le_bytes());
    set
}

/// The hash of a name in capitals, section 7.6.4.
fn hash(units: &[u16]) -> u16 {
    turned_sum(units.iter().flat_map(|unit| upper(*unit).to_le_bytes()))
}

/// Turned right by one, and each byte added: sections 6.3.3 and 7.6.4.
fn turned_sum(bytes: impl Iterator<Item = u8>) -> u16 {
    bytes.fold(0u16, |sum, byte| sum.rotate_right(1).wrapping_add(u16::from(byte)))
}
