//! Whole jobs on trays: every way to fail, and what is on the drive then.

use std::fs;
use std::io::{self, Read};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use proptest::prelude::*;
use pyrotyp_core::bytes::{Cursor, ReadAt};
use pyrotyp_core::compose::{Composition, FileBytes, Storage, TableForm, Tree, VolumeKind, storage, storage_with};
use pyrotyp_core::devices::tray::Tray;
use pyrotyp_core::devices::{
    After, Claimed, DriveFault, DriveIo, DriveWrite, Located, Opening, Platform, PlatformError, choose,
};
use pyrotyp_core::drive::{Drive, Openers, Tag};
use pyrotyp_core::guard::{Cleared, ImageNeeds, clear};
use pyrotyp_core::hash::{BLOCK_BYTES, BlockHasher, Sum, Taker, hole_digest};
use pyrotyp_core::image::inspect;
use pyrotyp_core::job::{
    Access, Checked, ComposedImage, Event, JobFault, KeptImage, Order, Outcome, Pacing, ReadBack, Source, Start,
    StreamedImage, Target, Watcher, Writing, journal,
};
use pyrotyp_core::record::{Cause, Conclusion, Head, JobResult, Stage};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::chain;
use pyrotyp_core::{job, plan};

const MIB: usize = 1 << 20;

/// Notes what happens, and throws the switch when a stage begins or so much was moved.
#[derive(Default)]
struct Noted {
    events: Mutex<Vec<(usize, Event)>>,
    stop_at: Option<(Stage, Cancel)>,
    stop_after: Option<(u64, Cancel)>,
}

impl Watcher for Noted {
    fn heard(&self, drive: usize, event: &Event) {
        self.events.lock().unwrap().push((drive, event.clone()));
        if let (Some((at, cancel)), Event::Began { stage, .. }) = (&self.stop_at, event)
            && at == stage
        {
            cancel.set();
        }
        if let (Some((after, cancel)), Event::Flushed { done }) = (&self.stop_after, event)
            && done >= after
        {
            cancel.set();
        }
    }
}

impl Noted {
    fn stages(&self) -> Vec<Stage> {
        let events = self.events.lock().unwrap();
        let began =
            |(_, event): &(usize, Event)| if let Event::Began { stage, .. } = event { Some(*stage) } else { None };
        events.iter().filter_map(began).collect()
    }

    fn has(&self, wanted: impl Fn(&Event) -> bool) -> bool {
        self.events.lock().unwrap().iter().any(|(_, event)| wanted(event))
    }
}

/// What images and drives are made of: made once, since thousands of jobs need it.
static NOISE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::noise(100 * MIB, 42));
static OLD_NOISE: LazyLock<Vec<u8>> = LazyLock::new(|| pyrotyp_sample::noise(100 * MIB, 7));

/// An image of this length whose start looks like boot code; nothing in it repeats.
fn image(bytes: usize) -> Vec<u8> {
    let mut image = NOISE[..bytes].to_vec();
    image[0] = 0xEB;
    image
}

/// A stick as a tray's descriptor has it.
fn described(name: &str, bytes: u64, sector: u32, faults: &str) -> String {
    format!(
        "[[drive]]\nname = \"{name}\"\nserial = \"KP-7781{name}\"\nbytes = {bytes}\nsector_bytes = {sector}\n\
         bus = \"usb\"\nremovable = true\n{faults}\n"
    )
}

/// A tray with one stick of old data, `a`, and whatever else is described.
struct Bench {
    folder: tempfile::TempDir,
}

/// How a job is run, but for its image.
struct How<'a> {
    checked: Checked,
    read_back: ReadBack,
    writing: Writing,
    start: Start,
    cancel: Cancel,
    noted: Noted,
    watcher: Option<&'a dyn Watcher>,
    stall_after: Duration,
    is_cleared_for_another: bool,
    limit: Option<u64>,
}

impl Default for How<'_> {
    fn default() -> Self {
        Self {
            checked: Checked::default(),
            read_back: ReadBack::Whole,
            writing: Writing::Everything,
            start: Start::Over,
            cancel: Cancel::new(),
            noted: Noted::default(),
            watcher: None,
            stall_after: Duration::from_secs(20),
            is_cleared_for_another: false,
            limit: None,
        }
    }
}

impl How<'_> {
    fn go_on() -> Self {
        Self { start: Start::GoOn, ..Self::default() }
    }

    fn only_changed() -> Self {
        Self { writing: Writing::OnlyChanged, ..Self::default() }
    }

    /// Stopped when a stage begins.
    fn stopped_at(stage: Stage) -> Self {
        let how = Self::default();
        Self { noted: Noted { stop_at: Some((stage, how.cancel.clone())), ..Noted::default() }, ..how }
    }

    /// Stopped once so much was flushed.
    fn stopped_after(bytes: u64) -> Self {
        let how = Self::default();
        Self { noted: Noted { stop_after: Some((bytes, how.cancel.clone())), ..Noted::default() }, ..how }
    }
}

impl Bench {
    fn new(drive_bytes: u64, sector: u32, faults: &str) -> Self {
        // Thousands of jobs flush thousands of times: in memory, where the system has a place for that.
        let memory = Path::new("/dev/shm");
        let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() }.unwrap();
        let bench = Self { folder };
        bench.describe(drive_bytes, sector, faults);
        fs::write(bench.folder.path().join("a.img"), &OLD_NOISE[..drive_bytes as usize]).unwrap();
        bench
    }

    fn describe(&self, drive_bytes: u64, sector: u32, faults: &str) {
        let descriptor = described("a", drive_bytes, sector, faults);
        fs::write(self.folder.path().join("tray.toml"), descriptor).unwrap();
    }

    fn tray(&self) -> Tray {
        Tray::open(self.folder.path()).unwrap()
    }

    fn drive(&self) -> Vec<u8> {
        self.file("a")
    }

    /// What is on the drive called `name`.
    fn file(&self, name: &str) -> Vec<u8> {
        fs::read(self.folder.path().join(format!("{name}.img"))).unwrap()
    }

    fn alter(&self, at: usize, bytes: &[u8]) {
        let mut drive = self.drive();
        drive[at..at + bytes.len()].copy_from_slice(bytes);
        fs::write(self.folder.path().join("a.img"), drive).unwrap();
    }

    fn notes(&self) -> PathBuf {
        self.notes_of("a")
    }

    fn notes_of(&self, name: &str) -> PathBuf {
        let tag = Tag::of(Some(name), None, Some("KP16-004417"), 1);
        journal::path_of(self.folder.path(), &tag)
    }

    /// A job on the drives called `names`.
    fn on(&self, names: &[&str], source: &dyn Source, how: &How<'_>) -> Vec<Outcome> {
        self.on_platform(&self.tray(), names, source, how)
    }

    fn on_platform(&self, tray: &dyn Platform, names: &[&str], source: &dyn Source, how: &How<'_>) -> Vec<Outcome> {
        let bench = plan::Bench { state: None, protected: Vec::new(), places: Vec::new() };
        let plan = ImageNeeds {
            image: "larkspur.iso".into(),
            bytes: source.bytes().filter(|_| !how.is_cleared_for_another).unwrap_or(1),
            laid_out_for: None,
        };
        let target = |name: &&str| {
            let choice = choose(tray, name).unwrap();
            let now = jiff::Timestamp::now();
            let known = plan::survey(
                tray,
                &bench,
                &plan::Intent { choices: std::slice::from_ref(&choice), ..plan::Intent::NONE },
                now,
            )
            .unwrap();
            // That it is too small is what some of these jobs are about.
            let cleared_for = ImageNeeds { bytes: plan.bytes.min(choice.drive.bytes), ..plan.clone() };
            let cleared = clear(&choice, &cleared_for, &known, &[], &[]).unwrap();
            Target { cleared, journal: Some(self.notes_of(name)), state: None, start: how.start, limit: how.limit }
        };
        let inspection = source.kept().map(|image| inspect(image).unwrap());
        let order = Order {
            source,
            needs: &plan,
            inspection: inspection.as_ref(),
            checked: how.checked.clone(),
            read_back: how.read_back,
            writing: how.writing,
            after: After::Keep,
            pacing: Pacing { flush_after: Duration::ZERO, stall_after: how.stall_after, ..Pacing::default() },
            claim_check: None,
        };
        let targets = names.iter().map(target).collect();
        let outcomes = job::run(&order, tray, targets, &how.cancel, how.watcher.unwrap_or(&how.noted));
        outcomes.iter().filter_map(|outcome| outcome.spent_notes.as_ref()).for_each(|notes| notes.remove());
        outcomes
    }

    /// A job on `a`, watched by somebody else than [`Noted`].
    fn watched_by(&self, watcher: &dyn Watcher, source: &dyn Source) -> Vec<Outcome> {
        self.on(&["a"], source, &How { watcher: Some(watcher), ..How::default() })
    }

    fn run(&self, image: &Vec<u8>, how: &How<'_>) -> Outcome {
        self.on(&["a"], &KeptImage(image), how).pop().unwrap()
    }

    /// The read-back comparison at a later time.
    fn compared(&self, image: &Vec<u8>) -> job::Comparison {
        let tray = self.tray();
        let drive = tray.open(&choose(&tray, "a").unwrap().drive).unwrap();
        job::compare(image, &inspect(image).unwrap(), &*drive, &Cancel::new(), &Noted::default()).unwrap()
    }

    /// A PC starts from what it finds in the first sectors, or in a backup table at the very end.
    fn could_start_a_pc(&self) -> bool {
        let drive = self.drive();
        drive[..4096].iter().any(|byte| *byte != 0) || drive[drive.len() - 512..].starts_with(b"EFI PART")
    }
}

/// What a check of the image would have found.
fn checked(image: &[u8]) -> Checked {
    let mut hasher = BlockHasher::new();
    hasher.take(image);
    Checked { sha256: Some(sha256(image)), blocks: Some(hasher.finish()), sums: Vec::new() }
}

#[test]
fn the_stages_come_in_their_order_and_the_seal_comes_last() {
    let (bench, how) = (Bench::new(8 << 20, 512, ""), How::default());
    let outcome = bench.run(&image(3 * MIB), &how);
    assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Verified, Head::Sealed));
    use Stage::*;
    assert_eq!(how.noted.stages(), [Claim, Blank, Body, ReadBack, Seal, Release]);
    assert!(!bench.notes().exists(), "there is nothing to go on with");
}

#[test]
fn images_and_drives_of_every_odd_size_end_equal_with_nothing_old_at_the_ends() {
    // Image, drive, sector: shorter than a sector, than the head; no multiple of a sector; reaching into the
    // drive's last MiB; exactly as large as the drive; a drive with no room between its two ends.
    let sizes = [
        (300, 4 * MIB, 512),
        (300, 4 * MIB, 4096),
        (70_001, 4 * MIB, 512),
        (MIB, 4 * MIB, 4096),
        (2 * MIB + 1, 4 * MIB, 512),
        (2 * MIB + 1, 4 * MIB, 4096),
        (4 * MIB - 700, 4 * MIB, 512),
        (4 * MIB, 4 * MIB, 512),
        (9 * MIB, 9 * MIB, 4096),
        (MIB + 512, MIB + 512, 512),
        (512, 512, 512),
        (13 * MIB + 77, 16 * MIB, 512),
    ];
    for (bytes, drive_bytes, sector) in sizes {
        let image = image(bytes);
        let known = How { checked: checked(&image), ..How::default() };
        let mut streamed = 0;
        for how in [How::default(), How::only_changed(), known, How { read_back: ReadBack::Skip, ..How::default() }] {
            let bench = Bench::new(drive_bytes as u64, sector, "");
            let outcome = if how.read_back == ReadBack::Skip {
                streamed += 1;
                let stream = StreamedImage::new(Box::new(&image[..]), Box::new(|| Ok(())));
                bench.on(&["a"], &stream, &How::default()).pop().unwrap()
            } else {
                bench.run(&image, &how)
            };
            assert_eq!(outcome.told.result, JobResult::Verified, "{bytes} on {drive_bytes}: {:?}", outcome.fault);
            assert_eq!(outcome.image_bytes, Some(bytes as u64));
            let drive = bench.drive();
            assert!(drive.starts_with(&image), "{bytes} on {drive_bytes}");
            let end = drive_bytes.saturating_sub(MIB).max(bytes.next_multiple_of(sector as usize));
            assert!(drive[end..].iter().all(|byte| *byte == 0), "{bytes} on {drive_bytes}: old data at the end");
            assert_eq!(drive.len(), drive_bytes);
        }
        assert_eq!(streamed, 1);
    }
}

#[test]
fn a_stick_pulled_out_at_any_moment_is_verified_and_equal_or_starts_no_pc_and_is_gone_on_with() {
    let image = image(14 * MIB + 100);
    // Two blanked MiB and the image in whole sectors.
    let total = 2 * MIB as u64 + image.size().next_multiple_of(512);
    let moments = (0..24).map(|part| part * total / 23).chain([total - 4097, total - 4096, total - 1, 1 << 20]);
    let mut went_on = 0;
    for (number, after) in moments.enumerate() {
        let cache = if number % 2 == 0 { "volatile_cache = true\n" } else { "" };
        let bench =
            Bench::new(16 << 20, 512, &format!("{cache}[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = {after}\n"));
        let outcome = bench.run(&image, &How::default());
        if outcome.told.result == JobResult::Verified {
            assert!(bench.drive().starts_with(&image), "after {after}");
            assert!(after >= total, "after {after}: verified, though it was gone before the end");
            continue;
        }
        assert_eq!(outcome.told.result, JobResult::Failed, "after {after}");
        match outcome.told.head {
            Head::Blank => assert!(!bench.could_start_a_pc(), "after {after}: called blank"),
            // Pulled out while the ends were being emptied or sealed: nobody can know, and nobody claims to.
            Head::Unknown => assert!(after < 2 * MIB as u64 || after >= total - MIB as u64, "after {after}"),
            head => panic!("after {after}: {head:?}"),
        }
        if after >= 2 * MIB as u64 && after < total - 4096 {
            assert!(!bench.could_start_a_pc(), "after {after}: starts");
        }
        bench.describe(16 << 20, 512, "");
        let how = How::go_on();
        let outcome = bench.run(&image, &how);
        assert_eq!(outcome.told.result, JobResult::Verified, "after {after}: {:?}", outcome.fault);
        assert!(bench.drive().starts_with(&image), "after {after}");
        went_on += usize::from(how.noted.has(|event| matches!(event, Event::GoingOn { .. })));
    }
    assert!(went_on >= 4, "only {went_on} were gone on with");
}

#[test]
fn asked_to_stop_at_any_stage_it_stops_and_starts_no_pc() {
    for (stage, head) in [(Stage::Claim, Head::Untouched), (Stage::Blank, Head::Blank), (Stage::Body, Head::Blank)]
        .into_iter()
        .chain([(Stage::ReadBack, Head::Blank)])
    {
        let (bench, how) = (Bench::new(8 << 20, 512, ""), How::stopped_at(stage));
        let before = bench.drive();
        let outcome = bench.run(&image(6 * MIB), &how);
        assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Stopped, head), "{stage:?}");
        assert_eq!(bench.drive() == before, head == Head::Untouched, "{stage:?}");
        assert!(head == Head::Untouched || !bench.could_start_a_pc(), "{stage:?}");
        assert_eq!(how.noted.stages().last(), Some(&Stage::Release), "{stage:?}: the drive must be given back");
    }
}

#[test]
fn a_drive_that_is_given_back_unsealed_is_blank_throughout_its_head() {
    // Stopped between read-back and seal, which an image without a body reaches, and after a read-back that differs.
    let bench = Bench::new(8 << 20, 512, "");
    let outcome = bench.run(&image(700_000), &How::stopped_at(Stage::ReadBack));
    assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Stopped, Head::Blank));
    assert!(bench.drive()[..MIB].iter().all(|byte| *byte == 0));

    let bench = Bench::new(8 << 20, 512, "[[drive.fault]]\nkind = \"corrupt\"\nat = 2000000\nbytes = 2000\n");
    let outcome = bench.run(&image(3 * MIB), &How::default());
    assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Differs, Head::Blank));
    assert_eq!(outcome.told.conclusion, Some(Conclusion::FailingMemory { bits: 4, lines: 0x10 }));
    assert!(bench.drive()[..MIB].iter().all(|byte| *byte == 0));
}

#[test]
fn an_image_that_is_not_the_one_that_was_meant_is_not_sealed() {
    let image = image(13 * MIB);
    // Another byte in the head, the body and the withheld end than in what was checked.
    for at in [100, 6 * MIB, 13 * MIB - 5] {
        let mut other = image.clone();
        other[at] ^= 1;
        let bench = Bench::new(13 << 20, 512, "");
        let outcome = bench.run(&other, &How { checked: checked(&image), ..How::default() });
        assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Failed, Head::Blank), "{at}");
        let told = outcome.fault.unwrap().to_string();
        assert!(told.starts_with("the image changed after it was checked"), "{at}: {told}");
        assert!(!bench.could_start_a_pc());
    }
    let bench = Bench::new(16 << 20, 512, "");
    let told = |how: How<'_>| {
        let outcome = bench.run(&image, &how);
        assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Failed, Head::Blank));
        assert!(!bench.could_start_a_pc());
        outcome.fault.unwrap().to_string()
    };
    let by_sum = Checked { sha256: Some("5".repeat(64)), ..Checked::default() };
    assert!(
        told(How { checked: by_sum, ..How::default() }).starts_with("the image changed after it was checked: SHA-256")
    );
    let published: Sum = format!("md5:{}", "0".repeat(32)).parse().unwrap();
    let published = Checked { sums: vec![published], ..Checked::default() };
    assert!(told(How { checked: published, ..How::default() }).starts_with("the MD5 of the image does not match"));
    let stream = StreamedImage::new(Box::new(&image[..]), Box::new(|| Err("the line broke".to_owned())));
    let outcome = bench.on(&["a"], &stream, &How::default()).pop().unwrap();
    assert_eq!(outcome.fault.unwrap().to_string(), "the line broke");
    assert!(!bench.could_start_a_pc());
}

#[test]
fn false_capacity_is_told_with_the_true_size() {
    let conclusion = |fault: &str, bytes: usize| {
        let bench = Bench::new(72 << 20, 512, &format!("[[drive.fault]]\n{fault}\n"));
        let outcome = bench.run(&image(bytes), &How::default());
        assert_eq!(outcome.told.result, JobResult::Differs, "{fault}");
        outcome.told.conclusion
    };
    let claimed_bytes = 72 << 20;
    // Once round, several times round, and not at a block.
    for (true_bytes, bytes) in [(16 << 20, 24 * MIB), (8 << 20, 40 * MIB), ((9 << 20) + 512 * 7, 24 * MIB)] {
        let told = conclusion(&format!("kind = \"wrap\"\ntrue_bytes = {true_bytes}"), bytes);
        assert_eq!(told, Some(Conclusion::FalseCapacity { true_bytes, claimed_bytes }));
    }
    let told = conclusion("kind = \"drop\"\nat = 12582912\nbytes = 99999999", 24 * MIB);
    assert_eq!(told, Some(Conclusion::FalseCapacity { true_bytes: 12_582_912, claimed_bytes }));
    // Zeros that were lost are not taken for those that the image has elsewhere, whether it stays or passes by.
    let mut image = image(24 * MIB);
    image[4 * MIB..8 * MIB].fill(0);
    for stays in [true, false] {
        let bench = Bench::new(72 << 20, 512, "[[drive.fault]]\nkind = \"drop\"\nat = 12582912\nbytes = 99999999\n");
        fs::write(bench.folder.path().join("a.img"), vec![0; 72 * MIB]).unwrap();
        let stream = StreamedImage::new(Box::new(&image[..]), Box::new(|| Ok(())));
        let source: &dyn Source = if stays { &KeptImage(&image) } else { &stream };
        let told = bench.on(&["a"], source, &How::default()).pop().unwrap().told.conclusion;
        assert_eq!(told, Some(Conclusion::FalseCapacity { true_bytes: 12_582_912, claimed_bytes }));
    }
    // A hole in the middle is something else: there, what was there before is still there.
    let told = conclusion("kind = \"drop\"\nat = 9437184\nbytes = 2097152", 24 * MIB);
    assert_eq!(told, Some(Conclusion::DropsWrites));
}

#[test]
fn what_came_through_a_pipe_is_found_wrong_and_told_as_far_as_the_drive_alone_tells() {
    // Zeros, which are everywhere, lie at the body's start.
    let mut image = image(24 * MIB + 300);
    image[MIB..2 * MIB + 9].fill(0);
    let told = |fault: &str, fresh: bool| {
        let bench = Bench::new(72 << 20, 512, &format!("[[drive.fault]]\n{fault}\n"));
        if fresh {
            fs::write(bench.folder.path().join("a.img"), vec![0; 72 * MIB]).unwrap();
        }
        let stream = StreamedImage::new(Box::new(&image[..]), Box::new(|| Ok(())));
        let outcome = bench.on(&["a"], &stream, &How::default()).pop().unwrap();
        assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Differs, Head::Blank), "{fault}");
        assert!(!bench.could_start_a_pc(), "{fault}");
        let causes: Vec<_> = outcome.told.differences.iter().map(|one| (one.offset, one.bytes, one.cause)).collect();
        (causes, outcome.told.conclusion.unwrap())
    };
    let fake = |true_bytes| Conclusion::FalseCapacity { true_bytes, claimed_bytes: 72 << 20 };
    let block = 4 * MIB as u64;
    for true_bytes in [16 << 20, 8 << 20, (9 << 20) + 512 * 7] {
        assert_eq!(told(&format!("kind = \"wrap\"\ntrue_bytes = {true_bytes}"), true).1, fake(true_bytes));
    }
    // A fresh drive gives zeros where it dropped what it took; from 13 MiB on, within a block.
    let (causes, conclusion) = told("kind = \"drop\"\nat = 13631488\nbytes = 99999999", true);
    assert_eq!(conclusion, fake(13_631_488));
    assert_eq!(causes[0], (3 * block, block, Cause::OldData));
    assert_eq!((causes[1].0, causes[1].2), (4 * block, Cause::Zeros));
    // A hole is none; what was there before is told where a sample of it was taken, and no less than a block can be told.
    let (causes, conclusion) = told("kind = \"drop\"\nat = 8388608\nbytes = 4194304", false);
    assert_eq!((causes, conclusion), (vec![(2 * block, block, Cause::OldData)], Conclusion::DropsWrites));
    let (causes, conclusion) = told("kind = \"corrupt\"\nat = 6000000\nbytes = 1", false);
    assert_eq!((causes, conclusion), (vec![(block, block, Cause::OtherData)], Conclusion::KeepsOther));
    let (causes, conclusion) = told("kind = \"read-error\"\nat = 6000000\nbytes = 3000", false);
    assert_eq!((causes, conclusion), (vec![(5_963_776, 65_536, Cause::Unreadable)], Conclusion::Unreadable));
}

#[test]
fn a_drive_that_ends_within_the_image_is_never_verified() {
    // What lies behind the true end lands on the head's place, or the head on it: the hard case is an image whose
    // end is zeros, because a blank head then looks right.
    let mut image = image(3 * MIB);
    image[2 * MIB + 5..].fill(0);
    let ends = [512, 4096, MIB - 512, MIB, MIB + 512, 2 * MIB, 2 * MIB + 512, 2 * MIB + 8192];
    let near_the_end = [12_288, 8192, 4608, 4096, 2048, 512].map(|before| 3 * MIB - before);
    for true_bytes in ends.into_iter().chain(near_the_end) {
        let fault = format!("[[drive.fault]]\nkind = \"wrap\"\ntrue_bytes = {true_bytes}\n");
        for how in [How::default(), How::only_changed()] {
            let outcome = Bench::new(8 << 20, 512, &fault).run(&image, &how);
            assert_ne!(outcome.told.result, JobResult::Verified, "true size {true_bytes}");
        }
    }
}

#[test]
fn a_seal_that_does_not_read_back_is_taken_off_again() {
    // The head's place keeps zeros while it is blanked, and begins to fail when all but the head is written.
    let fault = "[[drive.fault]]\nkind = \"corrupt\"\nat = 8192\nbytes = 512\nafter_bytes = 4194304\n";
    let (bench, how) = (Bench::new(8 << 20, 512, fault), How::default());
    let outcome = bench.run(&image(3 * MIB), &how);
    assert!(how.noted.stages().contains(&Stage::Seal));
    assert_eq!(outcome.told.result, JobResult::Differs);
    assert_eq!(outcome.fault.unwrap().to_string(), "what was sealed does not read back: byte 8192 is another one");
    assert!(!bench.could_start_a_pc());
}

#[test]
fn what_can_not_be_emptied_in_one_place_is_emptied_in_all_others_and_told() {
    // The old system has a backup of its table at the very end, from which firmware starts it when there is none at the start.
    let old = pyrotyp_sample::cafe::desktop().build();
    let length = old.len();
    let run = |fault: String, how: &How| {
        let bench = Bench::new(length as u64, 512, &format!("[[drive.fault]]\n{fault}\n"));
        fs::write(bench.folder.path().join("a.img"), &old).unwrap();
        let outcome = bench.run(&image(3 * MIB), how);
        let told = pyrotyp_core::text::chain(&outcome.fault.unwrap());
        (outcome.told.result, outcome.told.head, told, bench.drive())
    };
    for sectors in [1, 3] {
        let bad = length - 512 * sectors;
        let fault = format!("kind = \"write-error\"\nat = {bad}\nbytes = {}", 512 * sectors);
        let (result, head, told, drive) = run(fault, &How::default());
        assert_eq!((result, head), (JobResult::Failed, Head::Blank));
        assert_eq!(told, format!("the drive does not take bytes {bad} to {}: Input/output error", length - 1));
        assert!(drive[..MIB].iter().chain(&drive[length - MIB..bad]).all(|byte| *byte == 0));
        assert!(inspect(&drive).unwrap().tables.gpt.is_empty(), "no table is found at either end");
    }
    // A drive whose end takes nothing at all keeps the whole backup, and nobody calls it blank.
    let fault = format!("kind = \"write-error\"\nat = {}\nbytes = 2097152", length - MIB);
    let (result, head, _, drive) = run(fault, &How::default());
    assert_eq!((result, head), (JobResult::Failed, Head::Old));
    assert!(drive[..MIB].iter().all(|byte| *byte == 0) && !inspect(&drive).unwrap().tables.gpt.is_empty());
    // One bad sector within the head: the rest of it goes, and what is left there may be what starts.
    let (_, head, told, drive) = run("kind = \"write-error\"\nat = 33000\nbytes = 1".into(), &How::default());
    assert_eq!((head, told.as_str()), (Head::Old, "the drive does not take bytes 32768 to 33279: Input/output error"));
    assert!(drive[..32_768].iter().chain(&drive[33_280..MIB]).all(|byte| *byte == 0));
    let (_, head, ..) = run("kind = \"read-error\"\nat = 0\nbytes = 512".into(), &How::default());
    assert_eq!(head, Head::Unknown, "what can't be read is not known");
    // The same where only what differs was to be written.
    let fault = format!("kind = \"write-error\"\nat = {}\nbytes = 512", length - 512);
    let (result, head, ..) = run(fault, &How::only_changed());
    assert_eq!((result, head), (JobResult::Failed, Head::Blank));
}

#[test]
fn a_proof_is_good_for_the_image_for_which_it_was_given_alone() {
    let (image, bench) = (image(3 * MIB), Bench::new(8 << 20, 512, ""));
    let before = bench.drive();
    let outcome = bench.run(&image, &How { is_cleared_for_another: true, ..How::default() });
    assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Refused, Head::Untouched));
    assert!(matches!(outcome.fault, Some(JobFault::NotCleared { .. })) && bench.drive() == before);
}

#[test]
fn what_is_said_of_an_image_comes_from_the_job_that_says_it() {
    // Nothing needs to be written, since the drive holds the image as it is now, which is not the one that was checked.
    let image = image(9 * MIB);
    let mut other = image.clone();
    other[5 * MIB] ^= 1;
    let bench = Bench::new(16 << 20, 512, "");
    assert_eq!(bench.run(&other, &How::default()).told.result, JobResult::Verified);
    let by_sum = Checked { sha256: Some(sha256(&image)), ..Checked::default() };
    for known in [checked(&image), by_sum] {
        let outcome = bench.run(&other, &How { checked: known, ..How::only_changed() });
        assert_eq!((outcome.told.result, outcome.sha256), (JobResult::Failed, None));
        let told = outcome.fault.unwrap().to_string();
        assert!(told.starts_with("the image changed after it was checked"), "{told}");
    }
    let outcome = bench.run(&other, &How { checked: checked(&other), ..How::only_changed() });
    assert_eq!((outcome.told.result, outcome.sha256), (JobResult::Verified, Some(sha256(&other))));
}

/// A volume in a GPT, whose copy ends with a drive of this size; between them lies what stays.
fn in_gpt(drive_bytes: u64) -> Composition<'static> {
    let label = "BENCH".to_owned();
    let (kind, table) = (VolumeKind::Fat32, TableForm::Gpt);
    storage(&Storage { drive_bytes, sector_bytes: 512, kind, table, label, serial: 7 }).unwrap()
}

/// Whether the drive holds the composition, and in its holes what was there before.
fn holds_composed(bench: &Bench, made: &Composition, before: &[u8]) -> bool {
    let mut wanted = before.to_vec();
    let mut bytes = vec![0; made.size() as usize];
    made.fill_at(0, &mut bytes).unwrap();
    for (block, piece) in bytes.chunks(BLOCK_BYTES as usize).enumerate() {
        let at = block * BLOCK_BYTES as usize;
        if !made.is_hole(&(at as u64..(at + piece.len()) as u64)) {
            wanted[at..at + piece.len()].copy_from_slice(piece);
        }
    }
    bench.drive() == wanted
}

#[test]
fn what_lies_in_a_hole_is_neither_written_nor_read() {
    let bytes = 70 * MIB as u64;
    let made = in_gpt(bytes);
    let source = ComposedImage(&made);
    assert!(made.hole_bytes() > 40 * MIB as u64 && made.size() == bytes);
    // What must not be touched can't be: there, nothing can be read or written.
    let bad = "[[drive.fault]]\nkind = \"write-error\"\nat = 41943040\nbytes = 4096\n\n\
               [[drive.fault]]\nkind = \"read-error\"\nat = 41943040\nbytes = 4096\n";
    for how in [How::default(), How::only_changed(), How { read_back: ReadBack::Skip, ..How::default() }] {
        let bench = Bench::new(bytes, 512, bad);
        let before = bench.drive();
        let outcome = bench.on(&["a"], &source, &how).pop().unwrap();
        let skipped = how.read_back == ReadBack::Skip;
        assert_eq!(outcome.told.result, if skipped { JobResult::Written } else { JobResult::Verified });
        assert!(outcome.told.written_bytes < 20 * MIB as u64, "{}", outcome.told.written_bytes);
        let moved: Vec<u64> =
            outcome.told.stages.iter().filter(|one| one.name == Stage::Body).map(|one| one.bytes).collect();
        assert!(moved[0] < 20 * MIB as u64, "{moved:?}");
        assert!(holds_composed(&bench, &made, &before));
        // By the digests that were kept, the drive is proven later on, whatever the hole holds by then.
        let digests: Vec<_> = outcome.blocks.iter().map(|digest| digest.unwrap()).collect();
        assert!(digests.contains(&hole_digest()));
        bench.alter(30 * MIB, b"somebody's file");
        let tray = bench.tray();
        let drive = tray.open(&choose(&tray, "a").unwrap().drive).unwrap();
        let compare =
            || job::compare_with_digests(bytes, &digests, &*drive, &Cancel::new(), &Noted::default()).unwrap().result;
        assert_eq!(compare(), JobResult::Verified);
        bench.alter(69 * MIB + 7, b"no longer what it was");
        assert_eq!(compare(), JobResult::Differs);
    }
}

#[test]
fn files_of_an_image_are_laid_out_as_they_are_written() {
    let (image, bytes) = (image(9 * MIB), 40 * MIB as u64);
    let label = "BENCH".to_owned();
    let wanted = Storage {
        drive_bytes: bytes,
        sector_bytes: 512,
        kind: VolumeKind::Fat32,
        table: TableForm::Mbr,
        label,
        serial: 7,
    };
    let with = |end: u64| {
        let mut tree = Tree::default();
        tree.add_file("live/system.img", None, FileBytes::Parts { of: &image, parts: vec![700..5_000_000, 90..end] })
            .unwrap();
        storage_with(&wanted, &tree).unwrap()
    };
    let made = with(4_000_000);
    let bench = Bench::new(bytes, 512, "");
    let outcome = bench.on(&["a"], &ComposedImage(&made), &How::default()).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Verified, "{:?}", outcome.fault);
    let mut wanted = vec![0; made.size() as usize];
    made.fill_at(0, &mut wanted).unwrap();
    assert!(bench.drive().starts_with(&wanted));
    // A file that is shorter than was said ends the job, and nothing starts from the drive.
    let made = with(9 * MIB as u64 + 1);
    let outcome = bench.on(&["a"], &ComposedImage(&made), &How::default()).pop().unwrap();
    assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Failed, Head::Blank));
    assert!(chain(&outcome.fault.unwrap()).contains("a file ends before its length"));
}

#[test]
fn a_job_with_holes_is_gone_on_with_and_keeps_within_its_limit() {
    let bytes = 70 * MIB as u64;
    let made = in_gpt(bytes);
    let source = ComposedImage(&made);
    // Behind its true end, the drive takes nothing.
    let bench =
        Bench::new(90 * MIB as u64, 512, "[[drive.fault]]\nkind = \"write-error\"\nat = 73400320\nbytes = 99999999\n");
    let before = bench.drive();
    let within = |how: How<'static>| How { limit: Some(bytes), ..how };
    let outcome = bench.on(&["a"], &source, &within(How::stopped_after(4 * MIB as u64))).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Stopped, "{:?}", outcome.fault);
    let outcome = bench.on(&["a"], &source, &within(How::go_on())).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Verified, "{:?}", outcome.fault);
    assert!(outcome.told.kept_bytes > 0, "it went on");
    assert!(holds_composed(&bench, &made, &before));
    let outcome = bench.on(&["a"], &source, &How::default()).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Failed, "without the limit, its last sectors are to be emptied");
}

/// A drive, or an image, that ends this program at one of its calls.
struct Fused {
    drive: Box<dyn Claimed>,
    left: Arc<AtomicUsize>,
}

/// Counts a call; the last one that is left panics.
fn burn(left: &AtomicUsize) {
    if left.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1)) == Ok(1) {
        panic!("the fuse is burnt");
    }
}

impl DriveIo for Fused {
    fn bytes(&self) -> u64 {
        self.drive.bytes()
    }
    fn sector_bytes(&self) -> u32 {
        self.drive.sector_bytes()
    }
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        burn(&self.left);
        self.drive.read_at(at, into)
    }
}

impl DriveWrite for Fused {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        burn(&self.left);
        self.drive.write_at(at, from)
    }
    fn flush(&self) -> Result<(), DriveFault> {
        burn(&self.left);
        self.drive.flush()
    }
}

impl Claimed for Fused {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        self.drive.release(after)
    }
}

struct FusedImage<'a>(&'a Vec<u8>, AtomicUsize);

impl ReadAt for FusedImage<'_> {
    fn size(&self) -> u64 {
        self.0.size()
    }
    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        burn(&self.1);
        self.0.read_at(at, into)
    }
}

#[test]
fn whatever_of_the_program_dies_the_job_ends_and_starts_no_pc() {
    let image = image(14 * MIB);
    let run = |calls: usize, writing| {
        let bench = Bench::new(16 << 20, 512, &described("b", 16 << 20, 512, ""));
        let how = How { writing, ..How::default() };
        let left = Arc::new(AtomicUsize::new(calls));
        let has_wrapped = AtomicUsize::new(0);
        // Of two drives, the first to be claimed has the fuse.
        let wrap = |drive| -> Box<dyn Claimed> {
            let is_first = has_wrapped.fetch_add(1, Ordering::SeqCst) == 0;
            let left = if is_first { Arc::clone(&left) } else { Arc::default() };
            Box::new(Fused { drive, left })
        };
        let platform = Wrapped { tray: &bench.tray(), wrap };
        let outcomes = bench.on_platform(&platform, &["a", "b"], &KeptImage(&image), &how);
        for (name, outcome) in ["a", "b"].iter().zip(&outcomes) {
            let drive = bench.file(name);
            let starts = drive.iter().take(4096).any(|byte| *byte != 0);
            match outcome.told.result {
                JobResult::Verified => assert!(drive.starts_with(&image), "{calls}"),
                _ => assert!(!starts || outcome.told.head == Head::Untouched, "{calls}: {:?}", outcome.fault),
            }
        }
        outcomes.iter().filter(|outcome| matches!(outcome.fault, Some(JobFault::Died(_)))).count()
    };
    for writing in [Writing::Everything, Writing::OnlyChanged] {
        let mut calls = 1;
        while run(calls, writing) == 1 {
            calls += 1;
        }
        assert!(calls > 30, "each of {calls} calls was the last one once");
    }
    for calls in 1..40 {
        let bench = Bench::new(16 << 20, 512, "");
        let fused = FusedImage(&image, AtomicUsize::new(calls));
        let source = StreamedImage::new(Box::new(Cursor { of: &fused, at: 0 }), Box::new(|| Ok(())));
        let outcome = bench.on(&["a"], &source, &How::default()).pop().unwrap();
        let has_burnt = fused.1.load(Ordering::SeqCst) == 0;
        let result = if has_burnt { JobResult::Failed } else { JobResult::Verified };
        assert_eq!(
            (outcome.told.result, !has_burnt),
            (result, bench.could_start_a_pc()),
            "{calls}: {:?}",
            outcome.fault
        );
    }
    // One who only watches harms nothing.
    struct Fainting(AtomicUsize);
    impl Watcher for Fainting {
        fn heard(&self, _: usize, _: &Event) {
            burn(&self.0);
        }
    }
    let bench = Bench::new(16 << 20, 512, "");
    let outcome = bench.watched_by(&Fainting(AtomicUsize::new(3)), &KeptImage(&image)).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Verified);
}

#[test]
fn what_fails_only_once_is_tried_again_and_what_fails_always_is_told_with_its_range() {
    let range = "at = 6000000\nbytes = 3000\n";
    let told = |fault: &str| {
        let (bench, how) = (Bench::new(16 << 20, 512, &format!("[[drive.fault]]\n{fault}\n{range}")), How::default());
        let outcome = bench.run(&image(9 * MIB), &how);
        let retried = how.noted.has(|event| matches!(event, Event::Retried { .. }));
        let fault = outcome.fault.map(|fault| pyrotyp_core::text::chain(&fault)).unwrap_or_default();
        let causes: Vec<_> = outcome.told.differences.iter().map(|one| (one.offset, one.bytes, one.cause)).collect();
        (outcome.told.result, retried, outcome.told.read_again, fault, causes)
    };
    let none = String::new();
    assert_eq!(told("kind = \"write-error\"\ntimes = 1"), (JobResult::Verified, true, 0, none.clone(), vec![]));
    assert_eq!(told("kind = \"read-error\"\ntimes = 1"), (JobResult::Verified, false, 1, none, vec![]));
    let (result, _, _, fault, _) = told("kind = \"write-error\"");
    assert_eq!(result, JobResult::Failed);
    assert_eq!(fault, "the drive does not take bytes 5996544 to 6004735: Input/output error");
    let (result, _, _, _, causes) = told("kind = \"read-error\"");
    assert_eq!((result, causes), (JobResult::Differs, vec![(5_963_776, 65_536, Cause::Unreadable)]));
}

#[test]
fn a_drive_that_does_not_answer_is_told_of() {
    let bench =
        Bench::new(16 << 20, 512, "[[drive.fault]]\nkind = \"stall\"\nafter_bytes = 5000000\nmilliseconds = 700\n");
    let how = How { stall_after: Duration::from_millis(100), ..How::default() };
    assert_eq!(bench.run(&image(9 * MIB), &how).told.result, JobResult::Verified);
    assert!(how.noted.has(|event| matches!(event, Event::Stalled { .. })));
}

/// A tray that gives out each drive wrapped in something.
struct Wrapped<'a, W> {
    tray: &'a Tray,
    wrap: W,
}

impl<W: Fn(Box<dyn Claimed>) -> Box<dyn Claimed> + Send + Sync> Platform for Wrapped<'_, W> {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        self.tray.drives()
    }
    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        self.tray.locate(name)
    }
    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        self.tray.drives_holding(file)
    }
    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        self.tray.openers(drive)
    }
    fn may_claim(&self, drive: &Drive) -> Result<Opening, PlatformError> {
        self.tray.may_claim(drive)
    }
    fn open(&self, drive: &Drive) -> Result<Box<dyn DriveIo>, PlatformError> {
        self.tray.open(drive)
    }
    fn open_shared(&self, drive: &Drive) -> Result<std::fs::File, PlatformError> {
        self.tray.open_shared(drive)
    }
    fn claim(&self, cleared: Cleared) -> Result<Box<dyn Claimed>, PlatformError> {
        self.tray.claim(cleared).map(&self.wrap)
    }
}

/// Takes a flush only when nothing else is asked of it, as a stick that does one thing at a time may.
struct PatientDrive {
    drive: Box<dyn Claimed>,
    under_way: AtomicUsize,
}

impl DriveIo for PatientDrive {
    fn bytes(&self) -> u64 {
        self.drive.bytes()
    }
    fn sector_bytes(&self) -> u32 {
        self.drive.sector_bytes()
    }
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        self.drive.read_at(at, into)
    }
}

impl DriveWrite for PatientDrive {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        self.under_way.fetch_add(1, Ordering::SeqCst);
        std::thread::sleep(Duration::from_millis(20));
        let written = self.drive.write_at(at, from);
        self.under_way.fetch_sub(1, Ordering::SeqCst);
        written
    }
    fn flush(&self) -> Result<(), DriveFault> {
        let begun = Instant::now();
        while self.under_way.load(Ordering::SeqCst) > 0 {
            if begun.elapsed() > Duration::from_secs(5) {
                return Err(io::Error::other("the flush never had its turn").into());
            }
            std::thread::sleep(Duration::from_millis(1));
        }
        self.drive.flush()
    }
}

impl Claimed for PatientDrive {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        self.drive.release(after)
    }
}

#[test]
fn a_flush_has_its_turn_although_writes_go_on() {
    let (image, bench, how) = (image(40 * MIB), Bench::new(48 << 20, 512, ""), How::default());
    let wrap = |drive| -> Box<dyn Claimed> { Box::new(PatientDrive { drive, under_way: AtomicUsize::new(0) }) };
    let patient = Wrapped { tray: &bench.tray(), wrap };
    let outcome = bench.on_platform(&patient, &["a"], &KeptImage(&image), &how).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Verified, "{:?}", outcome.fault);
    let flushed = how.noted.events.lock().unwrap();
    let before_the_end = |event: &&(usize, Event)| matches!(event.1, Event::Flushed { done } if done < 39 << 20);
    assert!(flushed.iter().filter(before_the_end).count() >= 3, "flushed while it was written");
}

#[test]
fn only_what_differs_is_written() {
    let (image, bench) = (image(13 * MIB), Bench::new(16 << 20, 512, ""));
    bench.run(&image, &How::default());
    let modified = || fs::metadata(bench.folder.path().join("a.img")).unwrap().modified().unwrap();
    let before = modified();
    let how = How::only_changed();
    let outcome = bench.run(&image, &how);
    assert_eq!(
        (outcome.told.result, outcome.told.head, outcome.told.written_bytes),
        (JobResult::Verified, Head::Sealed, 0)
    );
    assert_eq!(modified(), before, "not a byte was written");
    assert!(!how.noted.stages().contains(&Stage::ReadBack), "all of it was read already");

    bench.alter(6 * MIB + 5, b"holiday");
    bench.alter(9 * MIB - 5, b"across two pieces");
    let outcome = bench.run(&image, &How::only_changed());
    assert_eq!((outcome.told.result, outcome.told.written_bytes), (JobResult::Verified, 3 * (64 << 10)));
    assert!(bench.drive().starts_with(&image));
    // What differs in the head alone, or is left over at the drive's end, is mended as well; until then nothing starts.
    for at in [10, 16 * MIB - 9] {
        bench.alter(at, b"!");
        let how = How { noted: How::stopped_at(Stage::ReadBack).noted, ..How::only_changed() };
        let outcome = bench.run(&image, &how);
        assert_eq!((outcome.told.result, outcome.told.written_bytes), (JobResult::Verified, 0));
        assert!(bench.drive().starts_with(&image) && bench.drive()[16 * MIB - 9] == 0);
    }
}

#[test]
fn a_job_goes_on_only_with_what_the_drive_really_holds_and_the_same_image() {
    let image = image(30 * MIB);
    let stopped = || {
        let bench = Bench::new(40 << 20, 512, "");
        let outcome = bench.run(&image, &How::stopped_after(12 * MIB as u64));
        assert_eq!((outcome.told.result, outcome.told.head), (JobResult::Stopped, Head::Blank));
        bench
    };
    let go_on = |bench: &Bench, image: &Vec<u8>, checked: Checked| {
        let how = How { checked, ..How::go_on() };
        let outcome = bench.run(image, &how);
        let events = how.noted.events.lock().unwrap();
        let told = events.iter().find_map(|(_, event)| match event {
            Event::GoingOn { from } => Some(format!("from {}", from >> 20)),
            Event::StartsOver { why } => Some(why.clone()),
            _ => None,
        });
        let wrote = outcome.told.written_bytes >> 20;
        (
            outcome.told.result,
            wrote,
            told.unwrap_or_default(),
            outcome.fault.map(|fault| fault.to_string()).unwrap_or_default(),
        )
    };
    for known in [Checked::default(), checked(&image)] {
        let bench = stopped();
        let (result, wrote, told, fault) = go_on(&bench, &image, known);
        assert_eq!((result, fault.as_str()), (JobResult::Verified, ""), "{told}");
        assert!(told.starts_with("from ") && wrote <= 18, "{told}, wrote {wrote}");
        assert!(bench.drive().starts_with(&image));
    }
    // What was flushed is not there any more: the first block that is missing is where it goes on.
    let bench = stopped();
    bench.alter(9 * MIB, b"somebody else was here");
    let (result, _, told, _) = go_on(&bench, &image, Checked::default());
    assert_eq!((result, told.as_str()), (JobResult::Verified, "from 8"));
    assert!(bench.drive().starts_with(&image));
    // Another image; notes about another drive; none.
    let mut other = image.clone();
    other[2 * MIB] ^= 1;
    for known in [Checked::default(), checked(&other)] {
        let bench = stopped();
        let before = bench.drive();
        let (result, _, _, fault) = go_on(&bench, &other, known);
        assert_eq!(result, JobResult::Refused);
        assert_eq!(fault, "this is not the image with which the job began: it differs at byte 0 or behind it");
        assert!(!bench.could_start_a_pc());
        assert_eq!(bench.drive()[MIB..], before[MIB..], "nothing but the blank ends was written");
    }
    let bench = stopped();
    fs::remove_file(bench.notes()).unwrap();
    let (result, wrote, told, _) = go_on(&bench, &image, Checked::default());
    assert_eq!((result, wrote, told.as_str()), (JobResult::Verified, 29, "no job on this drive has stopped half-way"));
}

/// A line that can be asked for any place, and counts what it sent.
struct Line<'a> {
    image: &'a [u8],
    sent: AtomicUsize,
    breaks_at: usize,
}

struct Sending<'a> {
    line: &'a Line<'a>,
    at: usize,
}

impl Read for Sending<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.line.breaks_at {
            return Err(io::Error::other("the line broke"));
        }
        let count = (&self.line.image[self.at..]).read(into)?;
        self.at += count;
        self.line.sent.fetch_add(count, Ordering::Relaxed);
        Ok(count)
    }
}

impl Source for Line<'_> {
    fn bytes(&self) -> Option<u64> {
        Some(self.image.len() as u64)
    }
    fn access(&self) -> Access {
        Access::Costly
    }
    fn open(&self, at: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(Sending { line: self, at: at as usize }))
    }
    fn kept(&self) -> Option<&dyn ReadAt> {
        None
    }
    fn prove(&self) -> Result<(), String> {
        Ok(())
    }
}

#[test]
fn a_line_that_breaks_is_gone_on_with_and_what_the_drive_has_is_hashed_from_there() {
    let (image, bench) = (image(30 * MIB), Bench::new(40 << 20, 512, ""));
    let line = |breaks_at| Line { image: &image, sent: AtomicUsize::new(0), breaks_at };
    let sum: Sum = format!("sha256:{}", sha256(&image)).parse().unwrap();
    let known = || Checked { sums: vec![sum.clone()], ..Checked::default() };
    let first = bench.on(&["a"], &line(22 * MIB), &How { checked: known(), ..How::default() }).pop().unwrap();
    assert_eq!((first.told.result, first.told.head), (JobResult::Failed, Head::Blank));
    let line = line(usize::MAX);
    let outcome = bench.on(&["a"], &line, &How { checked: known(), ..How::go_on() }).pop().unwrap();
    assert_eq!(outcome.told.result, JobResult::Verified, "{:?}", outcome.fault);
    assert!(line.sent.load(Ordering::Relaxed) <= 22 * MIB, "the head, and what was missing");
    assert!(bench.drive().starts_with(&image));
}

fn sha256(bytes: &[u8]) -> String {
    use pyrotyp_core::hash::{Algorithm, Hashers};
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    hashers.update(bytes);
    hashers.finish().pop().unwrap().hex
}

/// Further drives beside `a`, each with its fault.
fn others(bytes: u64, faults: &[(&str, &str)]) -> String {
    let drive = |(name, fault): &(&str, &str)| described(name, bytes, 512, &format!("[[drive.fault]]\n{fault}"));
    faults.iter().map(drive).collect()
}

#[test]
fn of_several_drives_each_ends_as_it_deserves() {
    let corrupt = "kind = \"corrupt\"\nat = 20000000\nbytes = 1000";
    let faults = [("b", "kind = \"unplug\"\nafter_bytes = 9000000"), ("c", corrupt)];
    let (image, bench) = (image(38 * MIB), Bench::new(40 << 20, 512, &others(40 << 20, &faults)));
    let outcomes = bench.on(&["a", "b", "c"], &KeptImage(&image), &How::default());
    let results: Vec<_> = outcomes.iter().map(|outcome| outcome.told.result).collect();
    assert_eq!(results, [JobResult::Verified, JobResult::Failed, JobResult::Differs]);
    assert_eq!(JobResult::of_all(results), JobResult::Differs);
    assert!(bench.drive().starts_with(&image));
}

#[test]
fn drives_of_other_sizes_and_sectors_share_a_job() {
    // One ends exactly where the image does, so that its last MiB is withheld; one has larger sectors and much room.
    let image = image(13 * MIB + 512);
    let other = |name, bytes: usize, sector| described(name, bytes as u64, sector, "");
    let more = other("b", 13 * MIB + 512, 512) + &other("c", 40 * MIB, 4096) + &other("d", 12 * MIB, 512);
    let bench = Bench::new(20 << 20, 512, &more);
    for how in [How::default(), How { checked: checked(&image), ..How::default() }] {
        let outcomes = bench.on(&["a", "b", "c", "d"], &KeptImage(&image), &how);
        let results: Vec<_> = outcomes.iter().map(|outcome| outcome.told.result).collect();
        assert_eq!(
            results[..3],
            [JobResult::Verified; 3],
            "{:?}",
            outcomes.iter().map(|one| &one.fault).collect::<Vec<_>>()
        );
        assert_eq!((results[3], outcomes[3].told.head), (JobResult::Refused, Head::Untouched), "it is too small");
        for name in ["a", "b", "c"] {
            assert!(bench.file(name).starts_with(&image), "{name}");
        }
    }
}

#[test]
fn drives_that_were_stopped_at_different_points_go_on_together() {
    let image = image(30 * MIB);
    // So slow that each is stopped not far behind where it is told to.
    let slow = "kind = \"slow\"\nbytes_per_second = 20000000";
    let both = format!("[[drive.fault]]\n{slow}\n{}", others(40 << 20, &[("b", slow)]));
    let bench = Bench::new(40 << 20, 512, &both);
    for (name, after) in [("a", 20), ("b", 10)] {
        let how = How::stopped_after(after << 20);
        assert_eq!(bench.on(&[name], &KeptImage(&image), &how)[0].told.result, JobResult::Stopped, "{name}");
    }
    for known in [checked(&image), Checked::default()] {
        let how = How { checked: known, cancel: Cancel::new(), ..How::go_on() };
        let outcomes = bench.on(&["a", "b"], &KeptImage(&image), &how);
        for (outcome, name) in outcomes.iter().zip(["a", "b"]) {
            assert_eq!(outcome.told.result, JobResult::Verified, "{name}: {:?}", outcome.fault);
            assert!(bench.file(name).starts_with(&image), "{name}");
        }
        // The second time there is nothing to go on with any more.
        if how.checked.blocks.is_some() {
            assert!(outcomes[0].told.kept_bytes > outcomes[1].told.kept_bytes && outcomes[1].told.kept_bytes > 0);
        } else {
            assert!(outcomes.iter().all(|outcome| outcome.told.kept_bytes == 0));
        }
    }
}

#[test]
fn a_slow_drive_is_left_behind_and_ends_well_by_itself() {
    let slow = [("b", "kind = \"slow\"\nbytes_per_second = 16000000")];
    let (image, bench) = (image(84 * MIB), Bench::new(90 << 20, 512, &others(90 << 20, &slow)));
    let how = How { read_back: ReadBack::Skip, ..How::default() };
    let outcomes = bench.on(&["a", "b"], &KeptImage(&image), &how);
    assert!(outcomes.iter().all(|outcome| outcome.told.result == JobResult::Written));
    assert!(bench.file("b").starts_with(&image));
    let events = how.noted.events.lock().unwrap();
    let left: Vec<_> =
        events.iter().filter(|(_, event)| *event == Event::LeftBehind).map(|(drive, _)| *drive).collect();
    assert_eq!(left, [1], "the slow one alone goes on by itself");
    let place = |drive, wanted: Event| events.iter().position(|found| *found == (drive, wanted.clone())).unwrap();
    assert!(place(0, Event::Ended { stage: Stage::Release }) < place(1, Event::Ended { stage: Stage::Body }));
}

#[test]
fn a_comparison_tells_a_computers_own_notes_from_damage() {
    let image = pyrotyp_sample::cafe::desktop().build();
    let inspection = inspect(&image).unwrap();
    let esp = inspection.esps.iter().find(|esp| esp.partition.is_some()).unwrap().start as usize;
    let bench = Bench::new(40 << 20, 512, "");
    bench.run(&image, &How::default());
    let compared = || {
        let compared = bench.compared(&image);
        (compared.result, compared.conclusion)
    };
    assert_eq!(compared(), (JobResult::Verified, None));
    bench.alter(esp + 37, &[1]);
    assert_eq!(compared(), (JobResult::Differs, Some(Conclusion::LookedAt)));
    bench.alter(8 * MIB, b"somebody's holiday pictures");
    assert_eq!(compared().1, Some(Conclusion::ChangedLater));
    fs::write(bench.folder.path().join("a.img"), pyrotyp_sample::noise(40 * MIB, 9)).unwrap();
    assert_eq!(compared().1, Some(Conclusion::OtherContent));
}

/// What a drive was given and has not flushed, and how many more requests it gets before the power goes.
#[derive(Default)]
struct Cache {
    unflushed: Vec<(u64, Vec<u8>)>,
    left: usize,
}

/// A drive with a cache, from which the power is taken.
struct CutOff {
    drive: Box<dyn Claimed>,
    cache: Arc<Mutex<Cache>>,
}

impl CutOff {
    fn cache(&self) -> Result<MutexGuard<'_, Cache>, DriveFault> {
        let mut cache = self.cache.lock().unwrap();
        cache.left = cache.left.checked_sub(1).ok_or(DriveFault::Gone)?;
        Ok(cache)
    }
}

impl DriveIo for CutOff {
    fn bytes(&self) -> u64 {
        self.drive.bytes()
    }
    fn sector_bytes(&self) -> u32 {
        self.drive.sector_bytes()
    }
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), DriveFault> {
        let cache = self.cache()?;
        self.drive.read_at(at, into)?;
        for (start, bytes) in &cache.unflushed {
            let (from, to) = (at.max(*start), (at + into.len() as u64).min(start + bytes.len() as u64));
            if from < to {
                let bytes = &bytes[(from - start) as usize..(to - start) as usize];
                into[(from - at) as usize..(to - at) as usize].copy_from_slice(bytes);
            }
        }
        Ok(())
    }
}

impl DriveWrite for CutOff {
    fn write_at(&self, at: u64, from: &[u8]) -> Result<(), DriveFault> {
        // The last request of all may have come this far; which of its sectors are kept is left open.
        let mut cache = self.cache.lock().unwrap();
        if cache.left > 0 {
            cache.unflushed.push((at, from.to_vec()));
        }
        cache.left = cache.left.saturating_sub(1);
        if cache.left > 0 { Ok(()) } else { Err(DriveFault::Gone) }
    }
    fn flush(&self) -> Result<(), DriveFault> {
        let mut cache = self.cache()?;
        cache.unflushed.drain(..).try_for_each(|(at, bytes)| self.drive.write_at(at, &bytes))
    }
}

impl Claimed for CutOff {
    fn release(self: Box<Self>, after: After) -> Result<(), PlatformError> {
        self.drive.release(after)
    }
}

/// The descriptor's lines for a fault of some kind.
fn fault(kind: u8, at: u64, length: u64) -> String {
    let range = format!("at = {at}\nbytes = {length}\n");
    let lines = match kind {
        0 => format!("kind = \"write-error\"\n{range}times = {}\n", length % 9),
        1 => format!("kind = \"read-error\"\n{range}times = {}\n", length % 9),
        2 => format!("kind = \"corrupt\"\n{range}"),
        3 => format!("kind = \"drop\"\n{range}"),
        4 => format!("kind = \"unplug\"\nafter_bytes = {at}\n"),
        _ => format!("kind = \"wrap\"\ntrue_bytes = {}\n", (at / 512).max(1) * 512),
    };
    format!("[[drive.fault]]\n{lines}")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    /// Wherever a stick was altered: every byte that differs lies in a range that is told, each range begins and ends with one,
    /// and what is mended afterwards is no more than the pieces that differ.
    #[test]
    fn whatever_was_altered_is_found_told_and_mended(
        bytes in 2 * MIB..9 * MIB,
        alterations in proptest::collection::vec((0u8..4, 0usize..9 * MIB, 1usize..90_000), 0..6),
    ) {
        const PIECE: usize = 64 << 10;
        let image = image(bytes);
        let bench = Bench::new(9 << 20, 512, "");
        prop_assert_eq!(bench.run(&image, &How::default()).told.result, JobResult::Verified);
        let mut drive = bench.drive();
        for (kind, at, length) in alterations {
            let at = at % bytes;
            let end = (at + length).min(bytes);
            match kind {
                0 => drive[at..end].fill(0),
                1 => drive[at..end].fill(0xFF),
                2 => drive[at] ^= 1 << (length % 8),
                _ => drive.copy_within(at / 2..at / 2 + end - at, at),
            }
        }
        fs::write(bench.folder.path().join("a.img"), &drive).unwrap();
        let found = bench.compared(&image);
        let differs = |at: usize| drive[at] != image[at];
        let mut left: Vec<bool> = (0..bytes).map(differs).collect();
        prop_assert_eq!(found.result == JobResult::Verified, !left.contains(&true));
        prop_assert_eq!(found.conclusion.is_some(), left.contains(&true));
        for one in &found.differences {
            let range = one.offset as usize..(one.offset + one.bytes) as usize;
            prop_assert!(differs(range.start) && differs(range.end - 1), "{:?}", one);
            match one.cause {
                Cause::Zeros => prop_assert!(range.clone().all(|at| !differs(at) || drive[at] == 0)),
                Cause::Ones => prop_assert!(range.clone().all(|at| !differs(at) || drive[at] == 0xFF)),
                Cause::SingleBits => prop_assert!(range.clone().all(|at| (drive[at] ^ image[at]).count_ones() <= 1)),
                cause => prop_assert!(matches!(cause, Cause::OtherData | Cause::OtherPlace), "{:?}", one),
            }
            left[range].fill(false);
        }
        prop_assert!(!left.contains(&true), "what differs is told");
        let pieces = (0..bytes).step_by(PIECE).filter(|at| (*at..(at + PIECE).min(bytes)).any(differs)).count();
        let mended = bench.run(&image, &How::only_changed());
        prop_assert_eq!(mended.told.result, JobResult::Verified);
        prop_assert!(mended.told.written_bytes <= (pieces * PIECE) as u64, "{} of {}", mended.told.written_bytes, pieces * PIECE);
        prop_assert!(bench.drive().starts_with(&image));
        prop_assert_eq!(bench.compared(&image).result, JobResult::Verified);
    }

    /// The power goes, and of what a drive has not flushed it keeps any sectors it likes: what is on it then is what was there, starts no
    /// PC, or is the image; and `--resume` makes it the image. So for a stick that starts PCs already and is to be refreshed.
    #[test]
    fn whatever_a_power_cut_leaves_is_whole_or_starts_no_pc(
        bytes in 2 * MIB..8 * MIB,
        left in 1usize..60,
        keeps: u64,
        only_changed: bool,
        is_known: bool,
        is_full: bool,
    ) {
        let image = image(if is_full { 8 << 20 } else { bytes });
        let bench = Bench::new(8 << 20, 512, "");
        let mut before = image.clone();
        (0..before.len()).step_by(MIB).for_each(|at| before[at + 3..].iter_mut().take(700).for_each(|byte| *byte ^= 0x55));
        if only_changed {
            before.resize(8 << 20, 0);
            fs::write(bench.folder.path().join("a.img"), &before).unwrap();
        } else {
            before = bench.drive();
        }
        let cache = Arc::new(Mutex::new(Cache { left, ..Cache::default() }));
        let wrap = |drive| -> Box<dyn Claimed> { Box::new(CutOff { drive, cache: Arc::clone(&cache) }) };
        let checked = || if is_known { checked(&image) } else { Checked::default() };
        let writing = if only_changed { Writing::OnlyChanged } else { Writing::Everything };
        let how = How { writing, checked: checked(), ..How::default() };
        let outcome = bench.on_platform(&Wrapped { tray: &bench.tray(), wrap }, &["a"], &KeptImage(&image), &how).pop().unwrap();

        // Each sector that was not flushed is kept or not, as a number drawn for it says.
        let mut drive = bench.drive();
        for (at, bytes) in &cache.lock().unwrap().unflushed {
            for (number, sector) in bytes.chunks(512).enumerate() {
                let at = *at as usize + number * 512;
                if blake3::hash(&[keeps, at as u64].map(u64::to_le_bytes).concat()).as_bytes()[0].is_multiple_of(2) {
                    drive[at..at + sector.len()].copy_from_slice(sector);
                }
            }
        }
        let inner = 4096..drive.len() - 4096;
        let each = |range: Range<usize>, is_so: &dyn Fn(usize) -> bool| range.clone().all(is_so);
        let outermost = |is_so: &dyn Fn(usize) -> bool| each(0..inner.start, is_so) && each(inner.end..drive.len(), is_so);
        let is_image = drive.starts_with(&image);
        // While one of the sectors that firmware looks for is there, all between them is what it was, or what it is to be.
        let is_untouched = drive[inner.clone()] == before[inner.clone()]
            && outermost(&|at| drive[at] == before[at] || drive[at] == 0);
        let ought = |at: usize| image.get(at).copied().unwrap_or_default();
        let has_begun = !each(0..inner.start, &|at| drive[at] == 0);
        let is_proven = each(inner.start..inner.end.min(image.len()), &|at| drive[at] == image[at])
            && outermost(&|at| drive[at] == ought(at) || drive[at] == 0)
            && (!has_begun || each(inner.end..drive.len(), &|at| drive[at] == ought(at)));
        prop_assert!(is_untouched || is_proven || outermost(&|at| drive[at] == 0));
        prop_assert!(outcome.told.result != JobResult::Verified || is_image);
        fs::write(bench.folder.path().join("a.img"), &drive).unwrap();
        let outcome = bench.run(&image, &How { writing, checked: checked(), ..How::go_on() });
        prop_assert_eq!(outcome.told.result, JobResult::Verified, "{:?}", outcome.fault);
        prop_assert!(bench.drive().starts_with(&image));
    }

    /// Three drives in one job, each with its own faults, stopped once and gone on with: each is verified and equal or starts no PC,
    /// and what one does harms none of the others.
    #[test]
    fn of_several_drives_each_is_verified_and_equal_or_starts_no_pc(
        bytes in 2 * MIB..24 * MIB,
        kinds in proptest::collection::vec((1usize..3, 0u8..5, 0u64..24 << 20, 1u64..200_000), 0..4),
        stop in 0u64..30 << 20,
        is_known: bool,
    ) {
        let faults = |drive: usize| -> String {
            let its = kinds.iter().filter(|kind| kind.0 == drive);
            its.map(|(_, kind, at, length)| fault(*kind, *at, *length)).collect()
        };
        let drops = faults(1).contains("drop") || faults(2).contains("drop");
        let bench = Bench::new(24 << 20, 512, &[1, 2].map(|drive| described(["a", "b", "c"][drive], 24 << 20, 512, &faults(drive))).concat());
        let image = image(bytes);
        for (after, start) in [(stop, Start::Over), (u64::MAX, Start::GoOn)] {
            let checked = if is_known { checked(&image) } else { Checked::default() };
            let how = How { checked, start, ..How::stopped_after(after) };
            let outcomes = bench.on(&["a", "b", "c"], &KeptImage(&image), &how);
            for (name, outcome) in ["a", "b", "c"].iter().zip(&outcomes) {
                let drive = bench.file(name);
                match (outcome.told.result, outcome.told.head) {
                    (JobResult::Verified, Head::Sealed) => prop_assert!(drive.starts_with(&image), "{}", name),
                    // A drive that drops what is written does not keep the blank head either.
                    (_, Head::Blank) if !drops => prop_assert!(drive[..4096].iter().all(|byte| *byte == 0), "{}", name),
                    (result, head) => prop_assert!(result != JobResult::Verified && head != Head::Sealed, "{}", name),
                }
            }
            if after == u64::MAX {
                prop_assert_eq!(outcomes[0].told.result, JobResult::Verified, "the sound one: {:?}", outcomes[0].fault);
            }
        }
    }

    /// An image comes over a line or through a pipe, which may break anywhere or give another byte: only the image with the right
    /// checksum is ever sealed, and a sound drive ends with it.
    #[test]
    fn what_passes_by_once_is_verified_and_equal_or_starts_no_pc(
        bytes in prop_oneof![1..9 * MIB, 8 * MIB + 1..9 * MIB],
        kinds in proptest::collection::vec((0u8..6, 0u64..9 << 20, 1u64..200_000), 0..2),
        is_line: bool,
        tries in proptest::collection::vec((prop_oneof![Just(usize::MAX), 0..12 * MIB], 0..12 * MIB, any::<bool>()), 0..3),
    ) {
        let faults: String = kinds.iter().map(|(kind, at, length)| fault(*kind, *at, *length)).collect();
        let bench = Bench::new(9 << 20, 512, &faults);
        let image = image(bytes);
        let sum: Sum = format!("sha256:{}", sha256(&image)).parse().unwrap();
        let whole = [true, false].map(|goes_on| (usize::MAX, usize::MAX, goes_on));
        let mut is_doubtful = false;
        for (breaks_at, lies_at, goes_on) in tries.into_iter().chain(whole) {
            // Where the line broke after a wrong byte, nobody can know yet that the drive has a wrong one.
            is_doubtful |= lies_at < bytes && breaks_at <= bytes;
            let mut sent = image.clone();
            sent.get_mut(lies_at).into_iter().for_each(|byte| *byte ^= 0x20);
            let how = How {
                checked: Checked { sums: vec![sum.clone()], ..Checked::default() },
                start: if goes_on { Start::GoOn } else { Start::Over },
                ..How::default()
            };
            let line = Line { image: &sent, sent: AtomicUsize::new(0), breaks_at };
            let pipe = StreamedImage::new(Box::new(Sending { line: &line, at: 0 }), Box::new(|| Ok(())));
            let source: &dyn Source = if is_line { &line } else { &pipe };
            let outcome = bench.on(&["a"], source, &how).pop().unwrap();
            match (outcome.told.result, outcome.told.head) {
                (JobResult::Verified, Head::Sealed) => prop_assert!(bench.drive().starts_with(&image)),
                (_, Head::Blank) if !faults.contains("wrap") && !faults.contains("drop") => {
                    prop_assert!(!bench.could_start_a_pc());
                }
                (result, head) => prop_assert!(result != JobResult::Verified && head != Head::Sealed),
            }
            if (breaks_at, lies_at) == (usize::MAX, usize::MAX) && faults.is_empty() {
                let may_fail = is_doubtful && goes_on;
                prop_assert!(outcome.told.result == JobResult::Verified || may_fail, "{:?}", outcome.fault);
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1000, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is wrong with a drive, whenever it is stopped, pulled out or gone on with: verified and equal, or not verified
    /// and no PC starts.
    #[test]
    fn a_job_is_verified_and_equal_or_starts_no_pc(
        bytes in 1usize..9 * MIB,
        kinds in proptest::collection::vec((0u8..6, 0u64..9 << 20, 1u64..200_000), 0..3),
        is_volatile: bool,
        stops in proptest::collection::vec((0u64..9 << 20, any::<bool>(), any::<bool>()), 0..3),
        is_known: bool,
    ) {
        let mut faults = String::new();
        for (kind, at, length) in kinds {
            faults.push_str(&fault(kind, at, length));
        }
        let spec = format!("volatile_cache = {is_volatile}\n{faults}");
        let bench = Bench::new(9 << 20, 512, &spec);
        let image = image(bytes);
        let known = || if is_known { checked(&image) } else { Checked::default() };
        // Stopped after so much, some times; then to the end. Each time anew, going on, or writing only what differs.
        let last = [(u64::MAX, true, false)];
        for (after, goes_on, only_changed) in stops.into_iter().chain(last) {
            let how = How {
                checked: known(),
                start: if goes_on { Start::GoOn } else { Start::Over },
                writing: if only_changed { Writing::OnlyChanged } else { Writing::Everything },
                ..How::stopped_after(after)
            };
            let outcome = bench.run(&image, &how);
            match (outcome.told.result, outcome.told.head) {
                (JobResult::Verified, Head::Sealed) => prop_assert!(bench.drive().starts_with(&image)),
                (JobResult::Verified, head) => prop_assert!(false, "verified with a head that is {:?}", head),
                // A drive that wraps or drops says one thing and holds another, so its file may not be blank.
                (_, Head::Blank) if !faults.contains("wrap") && !faults.contains("drop") => {
                    prop_assert!(!bench.could_start_a_pc());
                }
                (_, head) => prop_assert!(head != Head::Sealed),
            }
            prop_assert!(!matches!(outcome.fault, Some(JobFault::Image(_))), "{:?}", outcome.fault);
        }
    }
}
