//! All that the guard must know is asked for: what is found, and what can't be found out.

use std::fs;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pyrotyp_core::devices::tray::Tray;
use pyrotyp_core::devices::{Claimed, DriveIo, Located, Opening, Platform, PlatformError};
use pyrotyp_core::drive::{Choice, Drive, NamedBy, Openers, Tag};
use pyrotyp_core::guard::{BenchPlace, Circumstances, Cleared, Confirmed};
use pyrotyp_core::ledger;
use pyrotyp_core::plan::{Bench, Intent, SurveyError, survey};
use pyrotyp_core::record::{DriveRecord, ImageRecord, JobKind, JobResult, RECORD_VERSION, Record, Whose};
use tempfile::TempDir;

/// Which question gets no answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Silent {
    None,
    Drives,
    Holding,
    Openers,
}

/// Two sticks, a card, a backup disk; one question may fail, and places asked about are kept.
struct Asked {
    tray: Tray,
    silent: Silent,
    places: std::sync::Mutex<Vec<PathBuf>>,
}

impl Asked {
    fn of(folder: &TempDir) -> Self {
        let drive = |name: &str, bytes: u64, more: &str| {
            format!(
                "[[drive]]\nname = \"{name}\"\nvendor = \"Kestrin\"\nmodel = \"Pocket\"\nserial = \"KP16-{name}\"\nbytes = {bytes}\nbus = \"usb\"\nremovable = true\n{more}\n"
            )
        };
        let tray = [
            drive("a", 16 << 30, "opened_by = \"copier (process 4711)\""),
            drive("b", 16 << 30, ""),
            drive("card", 32 << 30, "slot = 1"),
            drive("empty", 0, "slot = 2"),
            drive("vault", 1 << 40, ""),
        ];
        fs::write(folder.path().join("tray.toml"), tray.concat()).unwrap();
        Self { tray: Tray::open(folder.path()).unwrap(), silent: Silent::None, places: Default::default() }
    }

    fn drive(&self, name: &str) -> Drive {
        let path = format!("tray:{name}");
        self.tray.drives().unwrap().into_iter().find(|drive| drive.path == path).unwrap()
    }

    fn answer(&self, question: Silent) -> Result<(), PlatformError> {
        let source = std::io::Error::other("no answer");
        if self.silent == question { Err(PlatformError::Unreadable { what: "/sys".into(), source }) } else { Ok(()) }
    }
}

impl Platform for Asked {
    fn drives(&self) -> Result<Vec<Drive>, PlatformError> {
        self.answer(Silent::Drives).and_then(|()| self.tray.drives())
    }
    fn locate(&self, name: &str) -> Result<Option<Located>, PlatformError> {
        self.tray.locate(name)
    }
    fn drives_holding(&self, file: &Path) -> Result<Vec<String>, PlatformError> {
        self.answer(Silent::Holding)?;
        self.places.lock().unwrap().push(file.to_owned());
        Ok(vec!["tray:b".to_owned()])
    }
    fn openers(&self, drive: &Drive) -> Result<Openers, PlatformError> {
        self.answer(Silent::Openers).and_then(|()| self.tray.openers(drive))
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
        self.tray.claim(cleared)
    }
}

/// The tag of one drive, and no other.
fn only(drive: &Drive) -> &[Tag] {
    std::slice::from_ref(&drive.tag)
}

fn now() -> Timestamp {
    "2026-11-26T09:30:00Z".parse().unwrap()
}

/// Keeps a record of a job on a drive, which ended then, or did not.
fn record(state: &Path, drive: &Drive, ended: Option<&str>) {
    let mut on = DriveRecord::begun(drive);
    on.outcome.result = JobResult::Verified;
    let record = Record {
        job: format!("20261126-080000-{}", drive.tag),
        record: RECORD_VERSION,
        started: "2026-11-26T08:00:00Z".to_owned(),
        ended: ended.map(str::to_owned),
        version: "1".to_owned(),
        result: JobResult::Verified,
        image: ImageRecord { file: "/srv/wrenfield.iso".to_owned(), ..ImageRecord::default() },
        kind: JobKind::Write,
        by: Whose::default(),
        accepted: Vec::new(),
        drives: vec![on],
        starts: Vec::new(),
    };
    ledger::begin(state, &record).unwrap();
}

#[test]
fn what_is_not_known_is_an_error_and_never_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let mut platform = Asked::of(&folder);
    let choice = Choice { drive: platform.drive("a"), by: NamedBy::Tag, partition: None };
    let state = folder.path().join("state");
    let bench = Bench { state: Some(state.clone()), protected: Vec::new(), places: Vec::new() };
    let places = Bench { places: vec![(state.clone(), BenchPlace::Records)], ..bench.clone() };
    let ask = |platform: &Asked, bench: &Bench, image: Option<&Path>| {
        survey(
            platform,
            bench,
            &Intent { image, choices: std::slice::from_ref(&choice), confirmed: Confirmed::ByNobody },
            now(),
        )
    };
    let image = folder.path().join("wrenfield.iso");
    assert!(ask(&platform, &places, Some(&image)).is_ok());
    for silent in [Silent::Drives, Silent::Holding, Silent::Openers] {
        platform.silent = silent;
        let (of_places, of_image) = (ask(&platform, &places, None), ask(&platform, &bench, Some(&image)));
        assert!(matches!(of_places, Err(SurveyError::Platform(_))), "{silent:?}");
        assert!(matches!(of_image, Err(SurveyError::Platform(_))), "{silent:?}");
    }
    platform.silent = Silent::None;
    fs::create_dir_all(&state).unwrap();
    fs::write(state.join("jobs"), "in the way").unwrap();
    let error = ask(&platform, &bench, None).unwrap_err();
    assert!(matches!(&error, SurveyError::Records { state: named, .. } if *named == state), "{error}");
    assert!(!error.next_step().is_empty());
}

#[test]
fn everything_that_is_asked_for_reaches_the_guard() {
    let folder = tempfile::tempdir().unwrap();
    let platform = Asked::of(&folder);
    let [a, b, card] = ["a", "b", "card"].map(|name| platform.drive(name));
    let state = folder.path().join("state");
    let protected = vec![a.tag.clone()];
    let deep = folder.path().join("not/made/yet");
    let places = vec![(deep, BenchPlace::Shelf), (folder.path().to_owned(), BenchPlace::Settings)];
    let bench = Bench { state: Some(state.clone()), protected: protected.clone(), places };
    let ask = |choices: &[Choice]| survey(&platform, &bench, &Intent { choices, ..Intent::NONE }, now()).unwrap();
    let choice = |drive: &Drive| Choice { drive: drive.clone(), by: NamedBy::Tag, partition: None };

    let Circumstances { bench_on, opened, attached, others, verified, unfinished, .. } = ask(&[choice(&a)]);
    // What is not made yet will be made where the nearest folder is.
    assert_eq!(*platform.places.lock().unwrap(), [folder.path(), folder.path()]);
    assert_eq!(bench_on, [("tray:b".to_owned(), BenchPlace::Shelf), ("tray:b".to_owned(), BenchPlace::Settings)]);
    assert_eq!(
        opened,
        [("tray:a".to_owned(), Openers { programs: vec!["copier (process 4711)".to_owned()], is_complete: true })]
    );
    assert_eq!(attached.len(), 5);
    // Not the one that holds the shelf, no empty slot, no disk.
    assert_eq!(others, only(&card));
    assert!(verified.is_empty() && unfinished.is_empty());

    let ask = |choices: &[Choice]| {
        let bench = Bench { places: Vec::new(), ..bench.clone() };
        survey(&platform, &bench, &Intent { choices, ..Intent::NONE }, now()).unwrap()
    };
    assert_eq!(ask(&[]).others, [], "nothing was chosen, so that nothing is another one");
    assert_eq!(ask(&[choice(&a)]).others, [b.tag.clone(), card.tag.clone()]);
    assert_eq!(ask(&[choice(&a), choice(&b)]).others, only(&card));
    assert_eq!(ask(&[choice(&b)]).protected, protected);
    assert_eq!(ask(&[choice(&b)]).others, only(&card), "a protected drive can't be meant");

    record(&state, &a, None);
    record(&state, &b, Some("2026-11-26T09:00:01Z"));
    let known = ask(&[choice(&a)]);
    assert_eq!(known.unfinished, [(a.tag.clone(), "wrenfield.iso".to_owned())]);
    assert_eq!(known.verified, [(b.tag.clone(), 29)]);
    record(&state, &b, Some("2026-11-26T09:00:00Z"));
    assert_eq!(ask(&[choice(&a)]).verified, [], "half an hour is long enough");
    // Of a card in a slot nothing is remembered.
    record(&state, &card, None);
    assert_eq!(ask(&[choice(&card)]).unfinished.len(), 1);
}
