//! Whole jobs on trays: every way to fail, and what is on the drive then.

use std::fs;
use std::path::Path;

use proptest::prelude::*;
use pyrotyp_core::Cancel;
use pyrotyp_core::drive::tray::Tray;
use pyrotyp_core::drive::{After, choose};
use pyrotyp_core::guard::{Circumstances, clear};
use pyrotyp_core::image::{ReadAt, inspect};
use pyrotyp_core::job::{self, Cause, Head, JobResult, Order, Outcome, ReadBack, Stage, Watcher};

const MIB: usize = 1 << 20;

/// Notes the stages, and throws the switch when one of them begins.
#[derive(Default)]
struct Noted {
    stages: Vec<Stage>,
    stop_at: Option<(Stage, Cancel)>,
}

impl Watcher for Noted {
    fn began(&mut self, stage: Stage, _: u64) {
        self.stages.push(stage);
        if let Some((at, cancel)) = &self.stop_at
            && *at == stage
        {
            cancel.set();
        }
    }
    fn moved(&mut self, _: Stage, _: u64) {}
    fn ended(&mut self, _: Stage) {}
}

/// An image of this length whose start looks like boot code; nothing in it repeats.
fn image(bytes: usize) -> Vec<u8> {
    let mut image = pyrotyp_sample::noise(bytes, 42);
    image[0] = 0xEB;
    image
}

/// A tray with one stick of old data.
struct Bench {
    folder: tempfile::TempDir,
}

impl Bench {
    fn new(drive_bytes: u64, sector: u32, faults: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let descriptor = format!(
            "[[drive]]\nname = \"a\"\nserial = \"KP-7781\"\nbytes = {drive_bytes}\nsector_bytes = {sector}\n\
             bus = \"usb\"\nremovable = true\n{faults}\n"
        );
        fs::write(folder.path().join("tray.toml"), descriptor).unwrap();
        let old = pyrotyp_sample::noise(drive_bytes as usize, 7);
        fs::write(folder.path().join("a.img"), old).unwrap();
        Self { folder }
    }

    fn tray(&self) -> Tray {
        Tray::open(self.folder.path()).unwrap()
    }

    fn drive(&self) -> Vec<u8> {
        fs::read(Path::new(self.folder.path()).join("a.img")).unwrap()
    }

    fn run(&self, image: &Vec<u8>, cancel: &Cancel, noted: &mut Noted) -> Outcome {
        self.order(image, cancel, noted, None)
    }

    fn order(&self, image: &Vec<u8>, cancel: &Cancel, noted: &mut Noted, checked: Option<&str>) -> Outcome {
        let tray = self.tray();
        let choice = choose(&tray, "a").unwrap();
        let cleared = clear(&choice, &Circumstances::default(), &[], &[]).unwrap();
        let inspection = inspect(image).unwrap();
        let order = Order {
            image,
            inspection: &inspection,
            checked_sha256: checked.map(str::to_owned),
            read_back: ReadBack::Whole,
            after: After::Keep,
        };
        job::run(&order, &tray, cleared, cancel, noted)
    }

    /// A PC starts from what it finds in the first sectors, or in a backup table at the very end.
    fn could_start_a_pc(&self) -> bool {
        let drive = self.drive();
        let end = drive.len() - 512;
        drive[..4096].iter().chain(&drive[end..]).any(|byte| *byte != 0)
    }
}

#[test]
fn the_stages_come_in_their_order() {
    let bench = Bench::new(8 << 20, 512, "");
    let mut noted = Noted::default();
    let outcome = bench.run(&image(3 * MIB), &Cancel::new(), &mut noted);
    assert_eq!((outcome.result, outcome.head), (JobResult::Verified, Head::Sealed));
    use Stage::*;
    assert_eq!(noted.stages, [Claim, Blank, Body, ReadBack, Seal, Release]);
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
        let (image, bench) = (image(bytes), Bench::new(drive_bytes as u64, sector, ""));
        let outcome = bench.run(&image, &Cancel::new(), &mut Noted::default());
        assert_eq!(outcome.result, JobResult::Verified, "{bytes} on {drive_bytes}: {:?}", outcome.fault);
        let drive = bench.drive();
        assert!(drive.starts_with(&image), "{bytes} on {drive_bytes}");
        let end = drive_bytes.saturating_sub(MIB).max(bytes.next_multiple_of(sector as usize));
        assert!(drive[end..].iter().all(|byte| *byte == 0), "{bytes} on {drive_bytes}: old data at the end");
        assert_eq!(drive.len(), drive_bytes);
    }
}

#[test]
fn a_stick_pulled_out_at_any_moment_is_verified_and_equal_or_starts_no_pc() {
    let image = image(6 * MIB + 100);
    let total = {
        let bench = Bench::new(8 << 20, 512, "");
        bench.run(&image, &Cancel::new(), &mut Noted::default());
        // Two blanked MiB and the image in whole sectors.
        2 * MIB as u64 + image.size().next_multiple_of(512)
    };
    let moments = (0..24).map(|part| part * total / 23).chain([total - 4097, total - 4096, total - 1, 1 << 20]);
    for after in moments {
        let fault = format!("[[drive.fault]]\nkind = \"unplug\"\nafter_bytes = {after}\n");
        let bench = Bench::new(8 << 20, 512, &fault);
        let outcome = bench.run(&image, &Cancel::new(), &mut Noted::default());
        if outcome.result == JobResult::Verified {
            assert!(bench.drive().starts_with(&image), "after {after}");
            assert!(after >= total, "after {after}: verified, though it was gone before the end");
            continue;
        }
        assert_eq!(outcome.result, JobResult::Failed, "after {after}");
        match outcome.head {
            Head::Blank => assert!(!bench.could_start_a_pc(), "after {after}: called blank"),
            // Pulled out while the ends were being emptied or sealed: nobody can know, and nobody claims to.
            Head::Unknown => assert!(after < 2 * MIB as u64 || after >= total - MIB as u64, "after {after}"),
            head => panic!("after {after}: {head:?}"),
        }
        if after >= 2 * MIB as u64 && after < total - 4096 {
            assert!(!bench.could_start_a_pc(), "after {after}: starts");
        }
    }
}

#[test]
fn asked_to_stop_at_any_stage_it_stops_and_starts_no_pc() {
    for (stage, head) in [(Stage::Claim, Head::Untouched), (Stage::Blank, Head::Blank), (Stage::Body, Head::Blank)]
        .into_iter()
        .chain([(Stage::ReadBack, Head::Blank)])
    {
        let (bench, cancel) = (Bench::new(8 << 20, 512, ""), Cancel::new());
        let before = bench.drive();
        let mut noted = Noted { stages: Vec::new(), stop_at: Some((stage, cancel.clone())) };
        let outcome = bench.run(&image(6 * MIB), &cancel, &mut noted);
        assert_eq!((outcome.result, outcome.head), (JobResult::Stopped, head), "{stage:?}");
        assert_eq!(bench.drive() == before, head == Head::Untouched, "{stage:?}");
        assert!(head == Head::Untouched || !bench.could_start_a_pc(), "{stage:?}");
        assert_eq!(noted.stages.last(), Some(&Stage::Release), "{stage:?}: the drive must be given back");
    }
}

#[test]
fn a_drive_that_is_given_back_unsealed_is_blank_throughout_its_head() {
    // Stopped between read-back and seal, which an image without a body reaches, and after a read-back that differs.
    let (bench, cancel) = (Bench::new(8 << 20, 512, ""), Cancel::new());
    let mut noted = Noted { stages: Vec::new(), stop_at: Some((Stage::ReadBack, cancel.clone())) };
    let outcome = bench.run(&image(700_000), &cancel, &mut noted);
    assert_eq!((outcome.result, outcome.head), (JobResult::Stopped, Head::Blank));
    assert!(bench.drive()[..MIB].iter().all(|byte| *byte == 0));

    let bench = Bench::new(8 << 20, 512, "[[drive.fault]]\nkind = \"corrupt\"\nat = 2000000\nbytes = 1\n");
    let outcome = bench.run(&image(3 * MIB), &Cancel::new(), &mut Noted::default());
    assert_eq!((outcome.result, outcome.head), (JobResult::Differs, Head::Blank));
    assert!(bench.drive()[..MIB].iter().all(|byte| *byte == 0));
}

#[test]
fn an_image_that_is_not_the_one_that_was_checked_is_not_sealed() {
    let bench = Bench::new(8 << 20, 512, "");
    let checked = "5".repeat(64);
    let outcome = bench.order(&image(3 * MIB), &Cancel::new(), &mut Noted::default(), Some(&checked));
    assert_eq!((outcome.result, outcome.head), (JobResult::Failed, Head::Blank));
    assert!(outcome.fault.unwrap().to_string().starts_with("the image changed after it was checked"));
    assert!(!bench.could_start_a_pc());
}

#[test]
fn false_capacity_is_told_by_what_lies_in_the_wrong_place() {
    let fault = "[[drive.fault]]\nkind = \"wrap\"\ntrue_bytes = 8388608\n";
    let bench = Bench::new(40 << 20, 512, fault);
    let outcome = bench.run(&image(24 * MIB), &Cancel::new(), &mut Noted::default());
    assert_eq!(outcome.result, JobResult::Differs);
    let causes: Vec<_> = outcome.differences.iter().map(|difference| difference.cause).collect();
    assert!(causes.contains(&Cause::OtherPlace), "{:?}", outcome.differences);
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
        let bench = Bench::new(8 << 20, 512, &format!("[[drive.fault]]\nkind = \"wrap\"\ntrue_bytes = {true_bytes}\n"));
        let outcome = bench.run(&image, &Cancel::new(), &mut Noted::default());
        assert_ne!(outcome.result, JobResult::Verified, "true size {true_bytes}");
    }
}

#[test]
fn a_seal_that_does_not_read_back_is_taken_off_again() {
    // The head's place keeps zeros while it is blanked, and begins to fail when all but the head is written.
    let fault = "[[drive.fault]]\nkind = \"corrupt\"\nat = 8192\nbytes = 512\nafter_bytes = 4194304\n";
    let bench = Bench::new(8 << 20, 512, fault);
    let mut noted = Noted::default();
    let outcome = bench.run(&image(3 * MIB), &Cancel::new(), &mut noted);
    assert!(noted.stages.contains(&Stage::Seal));
    assert_eq!(outcome.result, JobResult::Differs);
    assert_eq!(outcome.fault.unwrap().to_string(), "the head does not read back at byte 4096");
    assert!(!bench.could_start_a_pc());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is wrong with a drive: verified and equal, or not verified and no PC starts.
    #[test]
    fn a_job_is_verified_and_equal_or_starts_no_pc(
        bytes in 1usize..9 * MIB,
        kinds in proptest::collection::vec((0u8..6, 0u64..9 << 20, 1u64..200_000), 0..3),
    ) {
        let mut faults = String::new();
        for (kind, at, length) in kinds {
            let range = format!("at = {at}\nbytes = {length}\n");
            faults.push_str("[[drive.fault]]\n");
            faults.push_str(&match kind {
                0 => format!("kind = \"write-error\"\n{range}"),
                1 => format!("kind = \"read-error\"\n{range}"),
                2 => format!("kind = \"corrupt\"\n{range}"),
                3 => format!("kind = \"drop\"\n{range}"),
                4 => format!("kind = \"unplug\"\nafter_bytes = {at}\n"),
                _ => format!("kind = \"wrap\"\ntrue_bytes = {}\n", (at / 512).max(1) * 512),
            });
        }
        let bench = Bench::new(9 << 20, 512, &faults);
        let image = image(bytes);
        let outcome = bench.run(&image, &Cancel::new(), &mut Noted::default());
        match (outcome.result, outcome.head) {
            (JobResult::Verified, Head::Sealed) => prop_assert!(bench.drive().starts_with(&image)),
            (JobResult::Verified, head) => prop_assert!(false, "verified with a head that is {:?}", head),
            // A drive that wraps or drops says one thing and holds another, so its file may not be blank.
            (_, Head::Blank) if !faults.contains("wrap") && !faults.contains("drop") => {
                prop_assert!(!bench.could_start_a_pc());
            }
            (_, head) => prop_assert!(head != Head::Sealed),
        }
    }
}
