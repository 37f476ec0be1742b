//! Drives that lie about their size, drives that don't, and what is on them afterwards.

use std::fs;
use std::path::{Path, PathBuf};

use pyrotyp_core::devices::tray::Tray;
use pyrotyp_core::devices::{After, Platform, choose};
use pyrotyp_core::drive::Drive;
use pyrotyp_core::guard::{Cleared, ImageNeeds, clear};
use pyrotyp_core::hash::BLOCK_BYTES;
use pyrotyp_core::job::gauge::{self, Marker, ProbeBackup, QuickLook, RestoreOutcome, quick_look, restore_all};
use pyrotyp_core::job::{Event, JobFault, Outcome, Watcher};
use pyrotyp_core::plan;
use pyrotyp_core::record::{AreaState, Conclusion, DriveIdentity, JobResult, Trust};
use pyrotyp_core::stop::Cancel;

const MIB: u64 = 1 << 20;

/// Seed of the marks of every run here.
const SEED: &str = "590J1 now";

/// Nobody listens.
struct Nobody;

impl Watcher for Nobody {
    fn heard(&self, _drive: usize, _event: &Event) {}
}

/// Numbers that follow from a seed.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 16) % end
    }

    /// Whole sectors between these.
    fn sectors(&mut self, from: u64, to: u64) -> u64 {
        (from + self.below(to - from)) / 512 * 512
    }
}

/// How many cases a property is tried with: more where that is asked for.
fn cases(usual: u64) -> u64 {
    std::env::var("GAUGE_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(usual)
}

struct Bench {
    folder: tempfile::TempDir,
    bytes: u64,
}

impl Bench {
    /// A stick with somebody's data, as far as it has memory for it.
    fn new(bytes: u64, faults: &str, seed: u64) -> Self {
        let memory = Path::new("/dev/shm");
        let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() }.unwrap();
        let bench = Self { folder, bytes };
        bench.describe(faults);
        let mut data = vec![0; bytes as usize];
        blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut data);
        fs::write(bench.file(), data).unwrap();
        bench
    }

    fn describe(&self, faults: &str) {
        let descriptor = format!(
            "[[drive]]\nname = \"a\"\nserial = \"KP-7781\"\nbytes = {}\nbus = \"usb\"\nremovable = true\n{faults}\n",
            self.bytes
        );
        fs::write(self.folder.path().join("tray.toml"), descriptor).unwrap();
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("a.img")
    }

    fn content(&self) -> blake3::Hash {
        blake3::hash(&fs::read(self.file()).unwrap())
    }

    fn tray(&self) -> Tray {
        Tray::open(self.folder.path()).unwrap()
    }

    fn drive(&self) -> Drive {
        choose(&self.tray(), "a").unwrap().drive
    }

    fn backups(&self) -> Vec<ProbeBackup> {
        ProbeBackup::find_all(self.folder.path(), &DriveIdentity::of(&self.drive())).unwrap()
    }

    /// Restores what earlier runs left on the drive.
    fn restore(&self) -> Result<RestoreOutcome, JobFault> {
        let tray = self.tray();
        let drive = tray.claim(self.cleared(&tray)).unwrap();
        restore_all(self.folder.path(), &DriveIdentity::of(&self.drive()), &*drive)
    }

    fn needs(&self) -> ImageNeeds {
        ImageNeeds { image: "a look".into(), bytes: self.bytes, laid_out_for: None }
    }

    fn cleared(&self, tray: &dyn Platform) -> Cleared {
        let choice = choose(tray, "a").unwrap();
        let bench = plan::Bench { state: None, protected: Vec::new(), places: Vec::new() };
        let intent = plan::Intent { choices: std::slice::from_ref(&choice), ..plan::Intent::NONE };
        let known = plan::survey(tray, &bench, &intent, jiff::Timestamp::now()).unwrap();
        clear(&choice, &self.needs(), &known, &[], &[]).unwrap()
    }

    fn look(&self) -> Outcome {
        let tray = self.tray();
        let (state, needs) = (self.folder.path(), self.needs());
        let look = QuickLook { needs: &needs, state, seed: SEED, after: After::Keep };
        quick_look(&look, &tray, self.cleared(&tray), &Cancel::new(), &Nobody)
    }
}

/// A drive that pretends in some way, and its true size.
fn fake(numbers: &mut Numbers, bytes: u64) -> (String, u64) {
    // One in four lacks a little only.
    let end = if numbers.below(4) == 0 { bytes - BLOCK_BYTES } else { bytes / 8 };
    let end = numbers.sectors(end, bytes - 512);
    let fault = |kind: &str, more: &str| format!("[[drive.fault]]\nkind = \"{kind}\"\n{more}\n");
    let size = format!("true_bytes = {end}");
    let behind = format!("at = {end}\nbytes = {bytes}");
    let faults = match numbers.below(7) {
        0 => fault("wrap", &size),
        1 => fault("drop", &behind),
        2 => fault("repeat", &format!("{size}\npart_bytes = {}", numbers.sectors(512, 4 * MIB))),
        3 => fault("random", &size),
        4 => fault("read-error", &behind),
        5 => fault("write-error", &behind),
        _ => fault("drop", &behind) + &fault("remember", &format!("bytes = {}", bytes / 128)),
    };
    (faults, end)
}

#[test]
fn whoever_pretends_is_found_with_its_true_size_and_nothing_on_it_has_changed() {
    for seed in 0..cases(42) {
        let mut numbers = Numbers(seed);
        let bytes = numbers.sectors(40 * MIB, 120 * MIB);
        let (faults, end) = fake(&mut numbers, bytes);
        let bench = Bench::new(bytes, &faults, seed);
        let before = bench.content();
        let outcome = bench.look();
        let gauged = outcome.told.gauged.unwrap_or_else(|| panic!("{seed} {faults}: {:?}", outcome.fault));
        assert_eq!((gauged.verdict, outcome.told.result), (Trust::Smaller, JobResult::Differs), "{seed} {faults}");
        let found = gauged.true_bytes.unwrap();
        assert!(found <= end && end - found <= BLOCK_BYTES, "{seed} {faults}: {found} of {end}");
        assert_eq!(gauged.areas.last().map(|area| area.state), Some(AreaState::Missing));
        assert!(
            matches!(outcome.told.conclusion, Some(Conclusion::FalseCapacity { true_bytes, .. }) if true_bytes == found)
        );
        assert!(bench.content() == before, "{seed} {faults}: something else is there");
        assert!(bench.backups().is_empty());
    }
}

#[test]
fn nobody_is_accused_who_is_sound_whatever_its_size() {
    for seed in 0..cases(24) {
        let mut numbers = Numbers(seed + 1000);
        let bytes = numbers.sectors(4 * MIB, 100 * MIB);
        // What reads or writes wrong the first time and right the second is no lie about the size; a cache is none either.
        let cache = format!("[[drive.fault]]\nkind = \"remember\"\nbytes = {}\n", numbers.below(bytes) + 512);
        let bench = Bench::new(bytes, if seed % 2 == 0 { "" } else { &cache }, seed);
        let before = bench.content();
        let outcome = bench.look();
        let gauged = outcome.told.gauged.unwrap_or_else(|| panic!("{seed}: {:?}", outcome.fault));
        assert_eq!((gauged.verdict, gauged.true_bytes, gauged.areas), (Trust::Sound, Some(bytes), vec![]), "{seed}");
        assert!(
            gauged.read.len() >= 32
                && gauged.write.len() >= 32
                && gauged.read.iter().all(|one| one.bytes_per_second > 0)
        );
        assert!(bench.content() == before, "{seed}");
    }
    let bench = Bench::new(MIB, "", 1);
    assert_eq!(bench.look().told.gauged.unwrap().verdict, Trust::Unknown, "it is all head and end");
}

#[test]
fn a_place_that_fails_before_good_ones_is_no_end() {
    let place = |kind: &str, more: &str| {
        format!("[[drive.fault]]\nkind = \"{kind}\"\nat = 20000000\nbytes = 9000000\n{more}\n")
    };
    for faults in [place("drop", ""), place("read-error", ""), place("write-error", ""), place("corrupt", "")] {
        let bench = Bench::new(64 * MIB, &faults, 3);
        let before = bench.content();
        let gauged = bench.look().told.gauged.unwrap();
        assert_eq!((gauged.verdict, gauged.true_bytes), (Trust::Failing, Some(64 * MIB)));
        assert!(
            gauged
                .areas
                .iter()
                .all(|area| area.state == AreaState::Failing && (19_000_000..29_000_000).contains(&area.offset))
        );
        // What spoils each write spoils what is put back; all else leaves what was there.
        assert!(faults.contains("corrupt") || bench.content() == before, "{faults}");
    }
    let nothing = "[[drive.fault]]\nkind = \"drop\"\nat = 0\nbytes = 99999999\n";
    let bench = Bench::new(64 * MIB, nothing, 4);
    let gauged = bench.look().told.gauged.unwrap();
    assert_eq!((gauged.verdict, gauged.areas[0].bytes), (Trust::Failing, 64 * MIB), "it keeps nothing at all");
}

#[test]
fn a_power_cut_at_any_point_costs_nothing() {
    for seed in 0..cases(30) {
        let mut numbers = Numbers(seed + 5000);
        let bytes = numbers.sectors(20 * MIB, 60 * MIB);
        let (fault, _) = if seed % 3 == 0 { (String::new(), bytes) } else { fake(&mut numbers, bytes) };
        // About so much is marked, and restored. A sector may be torn, by 64 bytes or more.
        let cut = numbers.below(bytes / 64 * 4 + MIB) / 64 * 64;
        let unplug =
            format!("volatile_cache = {}\n[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = {cut}\n", seed % 2 == 0);
        let bench = Bench::new(bytes, &format!("{unplug}{fault}"), seed);
        let before = bench.content();
        let outcome = bench.look();
        bench.describe(&fault);
        if bench.backups().is_empty() {
            assert!(bench.content() == before, "{seed}: it was over before the cut");
            continue;
        }
        assert!(outcome.told.gauged.is_none(), "{seed}: {:?}", outcome.fault);
        let restored = bench.restore().unwrap_or_else(|fault| panic!("{seed}: {fault}"));
        assert!(bench.content() == before, "{seed} cut at {cut}, {fault}");
        assert_eq!(
            restored.restored_bytes > 0,
            bench.backups().is_empty(),
            "{seed}: deleted once its marks are replaced"
        );
        assert_eq!(bench.restore().unwrap().restored_bytes, 0, "there is nothing left to do");
    }
}

/// What became of a stick between an interrupted run and the restore.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Scene {
    /// Another stick with the same identity is there, and parts of it may be unreadable.
    Exchanged,
    /// Parts of it were overwritten elsewhere.
    Reformatted,
    /// Parts of it can't be read for now.
    Failing,
}

#[test]
fn restore_writes_only_over_its_own_marks() {
    for seed in 0..cases(30) {
        let mut numbers = Numbers(seed + 9000);
        let bytes = numbers.sectors(20 * MIB, 60 * MIB);
        let cut = numbers.below(bytes / 64 * 3 + MIB) / 64 * 64;
        let unplug = format!("[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = {cut}\n");
        let bench = Bench::new(bytes, &unplug, seed);
        let original = fs::read(bench.file()).unwrap();
        bench.look();
        let interrupted = fs::read(bench.file()).unwrap();
        let scene = [Scene::Exchanged, Scene::Reformatted, Scene::Failing][seed as usize % 3];
        let (at, length) = (numbers.sectors(0, bytes / 2), numbers.sectors(512, (20 * MIB).min(bytes / 2)));
        let unreadable = format!("[[drive.fault]]\nkind = \"read-error\"\nat = {at}\nbytes = {length}\n");
        let mut found = interrupted.clone();
        match scene {
            Scene::Exchanged => blake3::Hasher::new().update(b"twin").finalize_xof().fill(&mut found),
            Scene::Reformatted => found[at as usize..(at + length) as usize].fill(0xA5),
            Scene::Failing => {}
        }
        fs::write(bench.file(), &found).unwrap();
        bench.describe(if scene == Scene::Reformatted { "" } else { &unreadable });
        let (count, restored) = (bench.backups().len(), bench.restore());
        let after = fs::read(bench.file()).unwrap();
        let mut marks = vec![0; found.len()];
        Marker::new(SEED).fill(0, &mut marks);
        let sectors = after.chunks(512).zip(found.chunks(512)).zip(marks.chunks(512)).zip(original.chunks(512));
        for (number, (((after, found), mark), original)) in sectors.enumerate() {
            let is_marked = found[..64] == mark[..64] || found[448..] == mark[448..];
            assert!(after == found || is_marked && after == original, "{seed} {scene:?}: sector {number}");
        }
        let is_left = |bytes: &[u8]| bytes.chunks(512).zip(marks.chunks(512)).any(|(found, mark)| found == mark);
        match scene {
            Scene::Exchanged => assert_eq!((restored.unwrap().restored_bytes, bench.backups().len()), (0, count)),
            Scene::Reformatted => assert!(restored.is_ok() && !is_left(&after), "{seed}"),
            Scene::Failing => assert!(bench.backups().len() == count || !is_left(&after), "{seed}"),
        }
        // The first stick comes back and can be read: all of it is restored.
        bench.describe("");
        fs::write(bench.file(), if scene == Scene::Exchanged { &interrupted } else { &after }).unwrap();
        bench.restore().unwrap_or_else(|fault| panic!("{seed} {scene:?}: {fault}"));
        let last = fs::read(bench.file()).unwrap();
        assert!(scene == Scene::Reformatted || last == original, "{seed} {scene:?}");
        assert!(!is_left(&last));
    }
}

#[test]
fn a_look_that_is_stopped_or_can_keep_nothing_leaves_all_as_it_was() {
    let bench = Bench::new(40 * MIB, "", 5);
    let before = bench.content();
    let (tray, needs) = (bench.tray(), bench.needs());
    let run = |state: &Path, needs: &ImageNeeds, cancel: &Cancel| {
        let look = QuickLook { needs, state, seed: "x", after: After::Keep };
        quick_look(&look, &tray, bench.cleared(&tray), cancel, &Nobody)
    };
    let cancel = Cancel::new();
    cancel.set();
    let outcome = run(bench.folder.path(), &needs, &cancel);
    assert_eq!(outcome.told.result, JobResult::Stopped);
    assert!(bench.backups().is_empty() && bench.content() == before);
    fs::write(bench.folder.path().join("file"), "").unwrap();
    let outcome = run(&bench.folder.path().join("file"), &needs, &Cancel::new());
    assert!(matches!(outcome.fault, Some(JobFault::BackupFailed { .. })), "{:?}", outcome.fault);
    let other = ImageNeeds { image: "another".into(), ..needs.clone() };
    assert!(matches!(run(bench.folder.path(), &other, &Cancel::new()).fault, Some(JobFault::NotCleared { .. })));
    assert!(bench.content() == before);
}

#[test]
fn all_of_a_drive_is_read_and_what_fails_is_told_by_its_place() {
    let bad = "[[drive.fault]]\nkind = \"read-error\"\nat = 20000000\nbytes = 70000\n";
    for (faults, areas) in [("", vec![]), (bad, vec![(20_000_000 / 65536 * 65536, 131_072)])] {
        let bench = Bench::new(40 * MIB, faults, 6);
        let tray = bench.tray();
        let drive = tray.open(&bench.drive()).unwrap();
        let gauged = gauge::surface(&*drive, &Cancel::new(), &Nobody).unwrap();
        let found: Vec<_> = gauged.areas.iter().map(|area| (area.offset, area.bytes)).collect();
        assert_eq!((gauged.verdict == Trust::Sound, found), (areas.is_empty(), areas));
        assert!(gauged.read.len() >= 9 && gauged.write.is_empty());
        let cancel = Cancel::new();
        cancel.set();
        assert!(gauge::surface(&*drive, &cancel, &Nobody).is_err());
    }
}
