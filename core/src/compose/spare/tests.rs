//! Partitions behind the samples: found again by our own readers and by the system's checkers, the image equal but for its tables.

use std::collections::BTreeMap;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::process::Command;
use std::sync::LazyLock;

use proptest::prelude::*;

use crate::bytes::{MIB, ReadAt};
use crate::compose::gpt::sign;
use crate::compose::spare::{SpareDrive, SpareFault, SparePlace, SpareWish, Spared, kept_beside, patched, spared};
use crate::compose::{OnDrive, Tree, VolumeKind};
use crate::hash::BLOCK_BYTES;
use crate::image::inspect;
use crate::volume::gpt;

/// Tables of every kind that images have: by what each is called.
static IMAGES: LazyLock<BTreeMap<&str, Vec<u8>>> = LazyLock::new(|| {
    let desktop = pyrotyp_sample::cafe::desktop().build();
    // A hybrid one has an entry of its own beside the one that covers the GPT, which then covers its place alone.
    let with_entry = |kind: u8, first: u32, count: u32| {
        let mut image = desktop.clone();
        let bytes = [&[0u8, 0xFE, 0xFF, 0xFF, kind, 0xFE, 0xFF, 0xFF][..], &first.to_le_bytes(), &count.to_le_bytes()];
        image[462..478].copy_from_slice(&bytes.concat());
        image
    };
    let mut uncovered = with_entry(0x17, 0, 30_000);
    uncovered[446..462].fill(0);
    let mut full = with_entry(0x17, 0, 30_000);
    let entry = full[462..478].to_vec();
    full[478..510].copy_from_slice(&[&entry[..], &entry].concat());
    // An Apple map lies where its entries find room, in blocks of 2048 bytes.
    let mut apple = with_entry(0xEF, 34_100, 4_096);
    let mut map = b"PM\0\0\0\0\0\x01\0\0\0\x01\0\0\0\x01Apple\0".to_vec();
    map.resize(512, 0);
    apple[18 << 10..(18 << 10) + 512].copy_from_slice(&map);
    BTreeMap::from([
        ("record", pyrotyp_sample::cafe::rescue().build()),
        ("table, its ESP behind the volume", desktop.clone()),
        ("both", with_entry(0x17, 0, 30_000)),
        ("both, none covers the table", uncovered),
        ("both, the record full", full),
        ("both, and an Apple map", apple),
        ("both, covered", {
            let mut image = with_entry(0x17, 0, 30_000);
            image[458..462].fill(0xFF);
            image
        }),
    ])
});

fn wish(label: &str, bytes: Option<u64>, kind: VolumeKind) -> SpareWish<'static> {
    SpareWish { label: label.to_owned(), kind, bytes, tree: Tree::default() }
}

/// The end of the block in which so many bytes end.
fn next_block(bytes: usize) -> u64 {
    (bytes as u64).next_multiple_of(BLOCK_BYTES)
}

fn drive(bytes: u64) -> SpareDrive {
    SpareDrive { bytes, sector_bytes: 512, serial: 7 }
}

/// All of it as a drive of so many bytes holds it.
fn as_file(made: &Spared<'_>, bytes: u64) -> tempfile::NamedTempFile {
    let file = tempfile::NamedTempFile::new().unwrap();
    file.as_file().set_len(bytes).unwrap();
    let mut piece = vec![0; BLOCK_BYTES as usize];
    for at in (0..made.made.size()).step_by(piece.len()) {
        let count = made.made.fill_at(at, &mut piece).unwrap();
        file.as_file().write_all_at(&piece[..count], at).unwrap();
    }
    file
}

/// What a checker says of a file, without the name of it.
fn said(words: &[&str], file: &tempfile::NamedTempFile) -> String {
    let output = Command::new(words[0]).args(&words[1..]).arg(file.path()).output();
    let output = output.unwrap_or_else(|error| panic!("apt-get install gdisk fdisk: {}: {error}", words[0]));
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    text.replace(file.path().to_str().unwrap(), "FILE")
}

#[test]
#[ignore = "needs sfdisk and sgdisk"]
fn the_systems_checkers_find_no_more_than_in_the_image_alone() {
    for (called, image) in &*IMAGES {
        let seen = inspect(image).unwrap();
        let bytes = 512 * MIB;
        let wishes = [wish("FILES", Some(100 * MIB), VolumeKind::Fat32), wish("more", None, VolumeKind::Exfat)];
        let made = match spared(image, &seen, drive(bytes), &wishes) {
            Err(SpareFault::Full { .. }) if *called == "both, the record full" => continue,
            made => made.unwrap(),
        };
        let whole = as_file(&made, bytes);
        let listed = said(&["sfdisk", "--list", "--output", "Start,Sectors"], &whole);
        for SparePlace { range, .. } in &made.places {
            let line = format!("{} {}", range.start / 512, (range.end - range.start) / 512);
            assert!(
                listed.lines().any(|found| found.split_whitespace().eq(line.split(' '))),
                "{called}: {line}: {listed}"
            );
        }
        let alone = tempfile::NamedTempFile::new().unwrap();
        alone.as_file().write_all_at(image, 0).unwrap();
        let faults = |words: &[&str], sign: &str, file| {
            said(words, file).lines().filter(|line| line.contains(sign)).map(str::to_owned).collect::<Vec<_>>()
        };
        let (now, before) = [&whole, &alone].map(|file| faults(&["sfdisk", "--verify"], "overlaps", file)).into();
        assert_eq!(now.len(), before.len(), "{called}: {now:?}");
        if gpt::read(image).unwrap().is_some() && !called.contains("none covers") {
            let (now, before) = [&whole, &alone].map(|file| faults(&["sgdisk", "-v"], "Problem:", file)).into();
            // An entry that covers the place of both is told by us, and by it.
            let covered = made.notes.iter().filter(|note| note.contains("covers")).count() * made.places.len();
            assert_eq!(now.len(), before.len() + covered, "{called}: {now:?}");
        }
    }
}

#[test]
fn each_kind_of_table_takes_partitions_or_says_why_not() {
    let mut told = String::new();
    for (called, image) in &*IMAGES {
        let seen = inspect(image).unwrap();
        let wishes = [wish("FILES", Some(64 * MIB), VolumeKind::Exfat), wish("MORE", None, VolumeKind::Fat32)];
        told += &match spared(image, &seen, drive(512 * MIB), &wishes) {
            Ok(made) => {
                let numbers: Vec<u32> = made.places.iter().map(|place| place.number).collect();
                let altered: Vec<String> =
                    made.altered.iter().map(|(at, bytes)| format!("{}@{at}", bytes.len())).collect();
                format!("{called}: {numbers:?}, altered {}, {:?}\n", altered.join(" "), made.notes)
            }
            Err(fault) => format!("{called}: {fault}\n"),
        };
    }
    let (record, table) = (&IMAGES["record"], &IMAGES["table, its ESP behind the volume"]);
    let mut damaged = table.clone();
    damaged[512 + 90] ^= 1;
    let bare = pyrotyp_sample::cafe::rescue().recipe;
    let bare = pyrotyp_sample::Recipe { tables: pyrotyp_sample::Tables::None, ..bare }.build();
    // Entries of 8192 bytes, as many bytes in all; a volume that takes the whole drive; a record without entries.
    let (mut odd, mut volume, mut empty) = (table.clone(), record.clone(), record.clone());
    odd[512 + 80..512 + 88].copy_from_slice(&[2u32.to_le_bytes(), 8192u32.to_le_bytes()].concat());
    sign(&mut odd[512..604], 92);
    volume[3..11].copy_from_slice(b"EXFAT   ");
    empty[446..510].fill(0);
    let one = |label, bytes| wish(label, bytes, VolumeKind::Fat32);
    let four = SpareDrive { sector_bytes: 4096, ..drive(512 * MIB) };
    let many = || (0..3).map(|_| one("A", Some(MIB))).collect::<Vec<_>>();
    for (called, image, on, wishes) in [
        ("damaged", &damaged, drive(512 * MIB), vec![one("A", None)]),
        ("odd entries", &odd, drive(512 * MIB), vec![one("A", None)]),
        ("a volume of its own", &volume, drive(512 * MIB), vec![one("A", None)]),
        ("no entries", &empty, drive(512 * MIB), vec![one("A", None)]),
        ("without a table", &bare, drive(512 * MIB), vec![one("A", None)]),
        ("4096", record, four, vec![one("A", None)]),
        ("three in two entries", record, drive(512 * MIB), many()),
        ("no room", record, drive(8 * MIB), vec![one("A", None)]),
        ("too much", record, drive(64 * MIB), vec![one("A", Some(u64::MAX))]),
        ("two take all", record, drive(64 * MIB), vec![one("A", None), one("B", None)]),
        ("too far", record, drive(4_000_000_000_000), vec![wish("A", Some(2_100_000 * MIB), VolumeKind::Exfat)]),
        ("too small", record, drive(64 * MIB), vec![wish("A", Some(MIB), VolumeKind::Fat32), one("B", None)]),
    ] {
        let made = spared(image, &inspect(image).unwrap(), on, &wishes);
        told += &format!("{called}: {}\n", made.map_or_else(|fault| fault.to_string(), |_| "made".to_owned()));
    }
    insta::assert_snapshot!(told, @r#"
    both: [3, 4], altered 16@478 16@494 92@512 128@1280 128@1408, []
    both, and an Apple map: [3, 4], altered 16@478 16@494 92@512 128@1280 128@1408, []
    both, covered: [3, 4], altered 16@478 16@494 92@512 128@1280 128@1408, ["entry 1 of the image's master boot record already covers its place"]
    both, none covers the table: [1, 3], altered 16@446 16@478 92@512 128@1280 128@1408, []
    both, the record full: [3, 4], altered 92@512 128@1280 128@1408, ["it stands in the GUID partition table alone: the master boot record has no free entry for it"]
    record: [3, 4], altered 16@478 16@494, []
    table, its ESP behind the volume: [3, 4], altered 4@458 92@512 128@1280 128@1408, []
    damaged: the image's GUID partition table is damaged: the CRC of its fields is 0388cf97 where 1a93fed6 is declared, in the header at byte 512
    odd entries: the image's GUID partition table is damaged: its entries lie where none belong
    a volume of its own: the image has no partition table, and so no place to enter a further partition
    no entries: the image has no partition table, and so no place to enter a further partition
    without a table: the image has no partition table, and so no place to enter a further partition
    4096: the image's partition table counts in sectors of 512 bytes, and the drive has sectors of 4096
    three in two entries: the image's master boot record has no free entry for a further partition
    no room: 4.2 MB are wanted behind the image, and there are 0 bytes
    too much: 18.4 EB are wanted behind the image, and there are 54.5 MB
    two take all: only one partition can take what is left
    too far: a master boot record does not reach to the end of 4.0 TB
    too small: made
    "#);
}

#[test]
fn what_an_entry_was_rounded_up_by_is_not_given_away() {
    let mut image = IMAGES["record"].clone();
    let end = image.len() as u64 + 8_000_000;
    image[458..462].copy_from_slice(&((end / 512) as u32).to_le_bytes());
    let made =
        spared(&image, &inspect(&image).unwrap(), drive(64 * MIB), &[wish("A", None, VolumeKind::Exfat)]).unwrap();
    assert_eq!((made.places[0].range.start, made.notes), (end.next_multiple_of(BLOCK_BYTES), Vec::<String>::new()));
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(48) })]
    #[test]
    fn the_image_is_equal_but_for_its_tables_and_what_lies_behind_is_found(
        kind in 0usize..7, drive_bytes in 24 * MIB..600 * MIB, first in 1u64..300, kinds: [bool; 2], is_one: bool,
    ) {
        let (called, image) = IMAGES.iter().nth(kind).unwrap();
        let seen = inspect(image).unwrap();
        let on = drive(drive_bytes / 512 * 512);
        let of = |exfat| if exfat { VolumeKind::Exfat } else { VolumeKind::Fat32 };
        let mut wishes = vec![wish("FIRST", Some(first * MIB), of(kinds[0]))];
        if !is_one {
            wishes.push(wish("SECOND", None, of(kinds[1])));
        }
        let Ok(made) = spared(image, &seen, on, &wishes) else { return Ok(()) };
        // The image: equal but for what is told, and that is what it is compared with.
        let mut whole = vec![0; image.len()];
        made.made.fill_at(0, &mut whole).unwrap();
        let mut compared = vec![0; image.len()];
        patched(image, &made.altered).fill_at(0, &mut compared).unwrap();
        prop_assert!(whole == compared, "{}", called);
        for (at, bytes) in &made.altered {
            let range = *at as usize..*at as usize + bytes.len();
            prop_assert!(range.end <= 1 << 20, "only the tables change");
            whole[range.clone()].copy_from_slice(&image[range]);
        }
        prop_assert!(whole == *image, "{}", called);
        // What lies behind it is found by its number, in whole blocks, apart from the image, each other and the drive's end.
        let on_drive = OnDrive { made: &made.made, drive_bytes: on.bytes };
        let (found, _) = crate::contents::read_placed(&on_drive).unwrap();
        let mut next = image.len() as u64;
        for place in &made.places {
            prop_assert!(place.range.start >= next && place.range.end <= on.bytes - MIB);
            prop_assert!(place.range.start % BLOCK_BYTES == 0 && place.range.end % BLOCK_BYTES == 0);
            next = place.range.end;
            let (part, start) = found.iter().find(|(_, start)| *start == place.range.start).unwrap();
            prop_assert_eq!((*start, part.volume.bytes), (place.range.start, place.range.end - place.range.start));
            // A GPT that no entry covers is read here all the same, and not by Linux.
            prop_assert!(part.number == place.number || called.contains("none covers"));
            prop_assert_eq!(part.volume.label.as_deref(), Some(place.label.as_str()));
        }
        if let Some(table) = gpt::read(&on_drive).unwrap() {
            prop_assert!(table.primary.is_ok() && table.backup.is_ok_and(|backup| backup.at == on.bytes - 512));
        }
        // Nothing is written but the image, what the volumes need, and what ends the drive.
        prop_assert!(made.made.size() - made.made.hole_bytes() < next_block(image.len()) + 24 * MIB);
        // Kept, its tables are the same, and no byte of it is written.
        let kept = kept_beside(image, &seen, on, &made.places).unwrap();
        prop_assert_eq!((&kept.places, &kept.altered), (&made.places, &made.altered));
        prop_assert!(kept.made.size() - kept.made.hole_bytes() <= next_block(image.len()) + 3 * BLOCK_BYTES);
        for place in &kept.places {
            prop_assert!(kept.made.is_hole(&place.range) || place.range.start >= kept.made.size());
        }
        // Some sectors further, twice in one place, behind the drive's end, of no length: none of them was made here.
        let first = &made.places[0];
        let at = |range| SparePlace { range, ..first.clone() };
        let Range { start, end } = first.range;
        let others = [
            vec![at(start + 512..end)],
            vec![first.clone(), first.clone()],
            vec![at(start..end + (1 << 40))],
            vec![at(start..start)],
        ];
        let is_elsewhere = others.iter().all(|kept| matches!(kept_beside(image, &seen, on, kept), Err(SpareFault::Elsewhere { .. })));
        let mut longer = image.clone();
        longer.resize(made.places[0].range.start as usize + 1, 0);
        let is_reached = matches!(kept_beside(&longer, &seen, on, &made.places), Err(SpareFault::Reached { .. }));
        prop_assert!(is_elsewhere && is_reached);
    }
}
