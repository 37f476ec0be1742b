//! Drives into files: equal, whole or a part with its map, and gone on with.

use std::fs;
use std::ops::Range;
use std::path::{Path, PathBuf};

use pyrotyp_core::devices::tray::Tray;
use pyrotyp_core::devices::{Platform, choose};
use pyrotyp_core::hash::{Algorithm, Hashers};
use pyrotyp_core::job::save::{Filling, Packing, SaveMap, SaveOrder, Saved, map_path, part_path, save, sum_path};
use pyrotyp_core::job::{Event, JobFault, Watcher};
use pyrotyp_core::record::Stage;
use pyrotyp_core::stop::Cancel;

const MIB: u64 = 1 << 20;
/// Not whole blocks, and not whole sectors.
const BYTES: u64 = 21 * MIB + 700;

/// Stops once so much was saved.
struct StopAfter(u64, Cancel);

impl Watcher for StopAfter {
    fn heard(&self, _drive: usize, event: &Event) {
        if let Event::Moved { stage: Stage::Save, done } = event
            && *done >= self.0
        {
            self.1.set();
        }
    }
}

struct Bench {
    folder: tempfile::TempDir,
    data: Vec<u8>,
}

impl Bench {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let mut data = pyrotyp_sample::noise(24 << 20, 31);
        // Half of it packs well.
        data[..12 << 20].fill(7);
        fs::write(folder.path().join("a.img"), &data).unwrap();
        let bench = Self { folder, data };
        bench.describe(&[]);
        bench
    }

    /// What of the drive can't be read.
    fn describe(&self, bad: &[Range<u64>]) {
        let mut text = format!("[[drive]]\nname = \"a\"\nserial = \"KP-7781\"\nbytes = {}\nbus = \"usb\"\n", 24 * MIB);
        for range in bad {
            let (at, bytes) = (range.start, range.end - range.start);
            text.push_str(&format!("[[drive.fault]]\nkind = \"read-error\"\nat = {at}\nbytes = {bytes}\n"));
        }
        fs::write(self.folder.path().join("tray.toml"), text).unwrap();
    }

    fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn save(&self, name: &str, filling: Filling, stop_after: u64) -> Result<Saved, JobFault> {
        let tray = Tray::open(self.folder.path()).unwrap();
        let of = choose(&tray, "a").unwrap().drive;
        let drive = tray.open(&of).unwrap();
        let file = self.file(name);
        let order = SaveOrder { drive: &of.tag, bytes: BYTES, file: &file, packing: Packing::of(&file), filling };
        let cancel = Cancel::new();
        save(&order, &*drive, &cancel, &StopAfter(stop_after, cancel.clone()))
    }

    /// Whether the file holds what is on the drive, but zeros where these are.
    fn holds(&self, file: &Path, zeros: &[Range<u64>]) -> bool {
        let mut wanted = self.data[..BYTES as usize].to_vec();
        zeros.iter().for_each(|range| wanted[range.start as usize..range.end as usize].fill(0));
        let bytes = fs::read(file).unwrap();
        let is_packed = file.to_str().unwrap().contains(".zst");
        let bytes = if is_packed { zstd::decode_all(&bytes[..]).unwrap() } else { bytes };
        bytes == wanted
    }
}

fn sha256(file: &Path) -> String {
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    hashers.update(&fs::read(file).unwrap());
    hashers.finish().remove(0).hex
}

#[test]
fn a_drive_comes_into_a_file_with_its_checksum_beside_it() {
    let bench = Bench::new();
    for name in ["stick.img", "stick.img.zst"] {
        let saved = bench.save(name, Filling::None, u64::MAX).unwrap();
        let file = bench.file(name);
        assert!(bench.holds(&file, &[]), "{name}");
        let sum = sha256(&file);
        assert_eq!(
            (saved.bytes, saved.sha256.as_ref(), saved.file_bytes),
            (BYTES, Some(&sum), file.metadata().unwrap().len())
        );
        assert_eq!(fs::read_to_string(sum_path(&file)).unwrap(), format!("{sum}  {name}\n"));
        assert!(!part_path(&file).exists() && !map_path(&file).exists() && saved.unreadable.is_empty());
    }
    // Each frame is one block, and the table behind them tells where it lies.
    let packed = fs::read(bench.file("stick.img.zst")).unwrap();
    let (_, footer) = packed.split_at(packed.len() - 9);
    assert_eq!(footer, [&6u32.to_le_bytes()[..], &[0], &0x8F92_EAB1u32.to_le_bytes()].concat());
    let table = &packed[packed.len() - 9 - 6 * 8..packed.len() - 9];
    let size =
        |entry: usize, field: usize| u32::from_le_bytes(table[entry * 8 + field..][..4].try_into().unwrap()) as usize;
    let third = size(0, 0) + size(1, 0)..size(0, 0) + size(1, 0) + size(2, 0);
    assert_eq!(zstd::decode_all(&packed[third]).unwrap(), bench.data[8 << 20..12 << 20]);
    assert_eq!(size(5, 4), (BYTES - 20 * MIB) as usize);
    assert!(packed.len() < 11 << 20);
}

#[test]
fn what_cannot_be_read_is_mapped_and_a_later_run_tries_only_that() {
    let sectors = |from: u64, to: u64| from * 512..to * 512;
    let last = BYTES / 512;
    let kinds: [&[Range<u64>]; 20] = [
        &[sectors(0, 1)],
        &[sectors(1, 2)],
        &[sectors(0, 4096)],
        &[sectors(8191, 8193)],
        &[sectors(8192, 8193)],
        &[sectors(4095, 4097)],
        &[sectors(100, 101), sectors(102, 103)],
        &[sectors(100, 101), sectors(9000, 9001)],
        &[sectors(200, 328)],
        &[sectors(20_000, 20_004), sectors(20_010, 20_011), sectors(40_000, 40_003)],
        &[sectors(last, last + 1)],
        &[sectors(last - 1, last)],
        &[sectors(last - 3, last + 1)],
        &[sectors(12_288, 16_384)],
        &[sectors(16_000, 16_001)],
        &[sectors(16_383, 16_384)],
        &[sectors(30_000, 30_032)],
        &[sectors(5000, 5001), sectors(5003, 5004)],
        &[sectors(24_575, 24_577)],
        &[sectors(1, 2), sectors(last - 1, last)],
    ];
    for (number, bad) in kinds.iter().enumerate() {
        let bench = Bench::new();
        bench.describe(bad);
        let wanted: Vec<_> = bad.iter().map(|range| range.start..range.end.min(BYTES)).collect();
        let saved = bench.save("stick.img", Filling::None, u64::MAX).unwrap();
        let file = bench.file("stick.img");
        assert_eq!((&saved.unreadable, &saved.file, &saved.sha256), (&wanted, &part_path(&file), &None), "{number}");
        assert!(!file.exists() && !sum_path(&file).exists() && bench.holds(&part_path(&file), &wanted), "{number}");
        assert_eq!(SaveMap::find(&map_path(&file)).unwrap().unwrap().unreadable, wanted);
        // Nothing of the rest is read again: by now that would fail.
        let ends = wanted.iter().map(|range| range.end.next_multiple_of(512));
        let starts = wanted.iter().map(|range| range.start).chain([24 * MIB]).skip(1);
        let mut rest: Vec<Range<u64>> = ends.zip(starts).map(|(end, start)| end..start).collect();
        rest.push(0..wanted[0].start);
        rest.retain(|range| !range.is_empty());
        bench.describe(&rest);
        let saved = bench.save("stick.img", Filling::None, u64::MAX).unwrap();
        assert_eq!((saved.unreadable.len(), saved.sha256), (0, Some(sha256(&file))), "{number}");
        assert!(bench.holds(&file, &[]) && !map_path(&file).exists(), "{number}");
        // Or zeros are good enough.
        bench.describe(bad);
        let saved = bench.save("filled.img.zst", Filling::Zeros, u64::MAX).unwrap();
        let filled = bench.file("filled.img.zst");
        assert_eq!((&saved.unreadable, saved.sha256), (&wanted, Some(sha256(&filled))), "{number}");
        assert!(bench.holds(&filled, &wanted));
    }
}

#[test]
fn a_save_that_is_stopped_goes_on_and_a_part_of_something_else_is_left_alone() {
    for name in ["stick.img", "stick.img.zst"] {
        let bench = Bench::new();
        let bad = vec![Range { start: 9 * MIB, end: 9 * MIB + 512 }];
        bench.describe(&bad);
        let file = bench.file(name);
        let stopped = bench.save(name, Filling::None, 13 * MIB);
        assert!(matches!(stopped, Err(JobFault::Stopped { stage: Stage::Save })), "{stopped:?}");
        let map = SaveMap::find(&map_path(&file)).unwrap().unwrap();
        assert!(map.done >= 12 * MIB && map.unreadable == bad && !file.exists(), "{map:?}");
        // What was written behind the last note does not count.
        let mut part = fs::read(part_path(&file)).unwrap();
        part.extend([0xEE; 5000]);
        fs::write(part_path(&file), part).unwrap();
        let saved = bench.save(name, Filling::None, u64::MAX).unwrap();
        assert_eq!(saved.unreadable, bad);
        assert!(saved.kept_bytes >= 8 * MIB, "{}", saved.kept_bytes);
        bench.describe(&[]);
        let saved = bench.save(name, Filling::None, u64::MAX).unwrap();
        assert_eq!(saved.sha256, Some(sha256(&file)), "{name}");
        assert!(bench.holds(&file, &[]), "{name}");
        fs::write(part_path(&bench.file("other.img")), "somebody's").unwrap();
        assert!(matches!(bench.save("other.img", Filling::None, u64::MAX), Err(JobFault::OtherPart { .. })));
        assert_eq!(fs::read(part_path(&bench.file("other.img"))).unwrap(), b"somebody's");
        fs::write(map_path(&bench.file("other.img")), "{}").unwrap();
        assert!(matches!(bench.save("other.img", Filling::None, u64::MAX), Err(JobFault::File { .. })));
    }
}
