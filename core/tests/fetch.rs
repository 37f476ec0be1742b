//! Fetching from servers on this machine that behave well and badly.

use std::fs;
use std::io::Read;
use std::path::Path;
use std::sync::Mutex;
use std::time::Duration;

use proptest::prelude::*;
use pyrotyp_core::fetch::{
    FetchError, Landing, Listener, Mirror, MirrorFault, News, Onward, PartFile, Pieces, Reach, Wanted, Web, transfer,
};
use pyrotyp_core::hash::{Algorithm, Hashers, Sum};
use pyrotyp_core::stop::Cancel;
use pyrotyp_sample::mirror::Mirror as Server;

const NAME: &str = "larkspur.iso";
const PIECE: usize = 64 << 10;

/// Writes down what it is told, and stops the fetch at a place.
#[derive(Default)]
struct Heard {
    told: Vec<String>,
    stop_at: Option<u64>,
    cancel: Cancel,
}

impl Listener for Heard {
    fn moved(&mut self, done: u64, _: Option<u64>) {
        if self.stop_at.is_some_and(|at| done >= at) {
            self.cancel.set();
        }
    }

    fn told(&mut self, news: &News<'_>) {
        let short = |address: &str| address.split('/').nth(3).unwrap_or_default().to_owned();
        self.told.push(match news {
            News::Asking { address } => format!("asking {}", short(address)),
            News::Sending { address, from } => format!("{} sends from {from}", short(address)),
            News::Again { address, fault, .. } => format!("{} again: {fault}", short(address)),
            News::Dropped { address, fault } => format!("{} dropped: {fault}", short(address)),
            News::StartedOver { why } => format!("over: {why}"),
            other => format!("{other:?}"),
        });
    }
}

struct Bench {
    folder: tempfile::TempDir,
    server: Server,
    base: String,
    bytes: Vec<u8>,
}

impl Bench {
    fn new(bytes: usize) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let bytes = pyrotyp_sample::noise(bytes, 5);
        fs::create_dir(folder.path().join("served")).unwrap();
        fs::write(folder.path().join("served").join(NAME), &bytes).unwrap();
        let server = Server::new(&folder.path().join("served"));
        let base = format!("http://{}", server.start().unwrap());
        Self { folder, server, base, bytes }
    }

    /// The image on these mirrors, with its checksum.
    fn wanted(&self, manners: &[&str]) -> Wanted {
        let mirror =
            |manner: &&str| Mirror { address: format!("{}/{manner}/{NAME}", self.base), priority: 1, location: None };
        let mirrors = manners.iter().map(mirror).collect();
        Wanted { name: NAME.to_owned(), mirrors, sums: vec![sum(&self.bytes, Algorithm::Sha256)], ..Wanted::default() }
    }

    /// What comes onward from byte `at`, and what was told on the way.
    fn onward(&self, wanted: &Wanted, at: u64) -> (Result<Vec<u8>, String>, Vec<String>) {
        let (web, cancel) = (Web::new(Reach::ThisMachine, Duration::from_millis(600)), Cancel::new());
        let heard = Mutex::new(Heard::default());
        let mut bytes = Vec::new();
        let tell = |news: &News<'_>| heard.lock().unwrap().told(news);
        let read = Onward::new(&web, wanted, at, &cancel, Box::new(tell)).read_to_end(&mut bytes);
        let short = |text: String| text.replace(&self.base, "");
        let read = read.map(|_| bytes).map_err(|error| short(pyrotyp_core::text::chain(&error)));
        (read, heard.into_inner().unwrap().told)
    }

    fn in_pieces(&self, manners: &[&str]) -> Wanted {
        let sums = self.bytes.chunks(PIECE).map(|piece| sum(piece, Algorithm::Sha1)).collect();
        let pieces = Some(Pieces { algorithm: Algorithm::Sha1, bytes: PIECE as u64, sums });
        Wanted { pieces, bytes: Some(self.bytes.len() as u64), ..self.wanted(manners) }
    }

    fn target(&self) -> std::path::PathBuf {
        self.folder.path().join(NAME)
    }

    fn fetch(&self, wanted: &Wanted, heard: &mut Heard) -> Result<(), FetchError> {
        fetch(&self.target(), wanted, heard)
    }
}

fn fetch(target: &Path, wanted: &Wanted, heard: &mut Heard) -> Result<(), FetchError> {
    let web = Web::new(Reach::ThisMachine, Duration::from_secs(1));
    let mut part = PartFile::open(target, wanted)?;
    let cancel = heard.cancel.clone();
    transfer(&web, wanted, Landing { part: &mut part, most: 8 << 20 }, &cancel, heard)?;
    part.finish()?;
    Ok(())
}

fn sum(bytes: &[u8], algorithm: Algorithm) -> Sum {
    let mut hashers = Hashers::new([algorithm]);
    hashers.update(bytes);
    hashers.finish().remove(0)
}

/// What came out, beside what was told on the way.
fn outcome(bench: &Bench, wanted: &Wanted) -> String {
    let mut heard = Heard::default();
    let result = bench.fetch(wanted, &mut heard);
    let end = match (&result, fs::read(bench.target())) {
        (Ok(()), Ok(there)) if there == bench.bytes => "equal".to_owned(),
        (Ok(()), _) => "NOT EQUAL".to_owned(),
        (Err(error), Err(_)) => error.to_string().replace(&bench.base, ""),
        (Err(error), Ok(_)) => format!("FAILED AND THERE: {error}"),
    };
    let _ = fs::remove_file(bench.target());
    let _ = fs::remove_file(bench.target().with_extension("iso.part"));
    let _ = fs::remove_file(bench.target().with_extension("iso.part.toml"));
    format!("{}\n  = {end}\n", heard.told.join("\n"))
}

#[test]
fn servers_of_every_kind_give_the_image_or_a_clear_word() {
    let bench = Bench::new(900_000);
    let all: Vec<String> =
        ["steady", "breaks-200000", "plain", "busy", "longer", "page", "gone", "wrong-5", "silent", "endless"]
            .map(|manner| outcome(&bench, &bench.wanted(&[manner, "steady"])))
            .into();
    insta::assert_snapshot!(all.join(""));
    // With nobody else to ask.
    let bench = Bench::new(300_000);
    let all: Vec<String> = ["longer", "page", "gone", "wrong-5", "leads/ftp:", "leads/http://192.0.2.1/"]
        .map(|manner| outcome(&bench, &bench.wanted(&[manner])))
        .into();
    insta::assert_snapshot!(all.join(""));
}

#[test]
fn a_changed_file_starts_over_and_is_never_mixed() {
    let bench = Bench::new(600_000);
    let wanted = Wanted { sums: Vec::new(), ..bench.wanted(&["changed"]) };
    let mut heard = Heard { stop_at: Some(1), ..Heard::default() };
    assert!(matches!(bench.fetch(&wanted, &mut heard), Err(FetchError::Stopped)));
    let mut heard = Heard::default();
    bench.fetch(&wanted, &mut heard).unwrap();
    assert!(
        heard.told.iter().any(|told| told == "over: the server has another version of the file by now"),
        "{heard:?}",
        heard = heard.told
    );
    let changed: Vec<u8> = bench.bytes.iter().map(|byte| byte.wrapping_add(1)).collect();
    assert_eq!(fs::read(bench.target()).unwrap(), changed);
}

#[test]
fn only_the_damaged_piece_is_fetched_again_and_the_mirror_that_lies_is_left() {
    let bench = Bench::new(40 * PIECE + 777);
    let mut heard = Heard::default();
    bench.fetch(&bench.in_pieces(&["wrong-1000000", "slow-2000000"]), &mut heard).unwrap();
    assert_eq!(fs::read(bench.target()).unwrap(), bench.bytes);
    let damaged = 1_000_000 / PIECE * PIECE;
    assert!(
        heard.told.contains(&format!("wrong-1000000 dropped: its piece at byte {damaged} is damaged")),
        "{:?}",
        heard.told
    );
    // What was on the disk and went bad: everything else stays.
    fs::rename(bench.target(), bench.folder.path().join("whole")).unwrap();
    let mut spoilt = bench.bytes.clone();
    spoilt[5 * PIECE + 1] ^= 1;
    fs::write(bench.target().with_extension("iso.part"), spoilt).unwrap();
    let side = format!(
        "address = \"x\"\nbytes = {0}\nsum = \"{1}\"\ndone = [[0, {0}]]\n",
        bench.bytes.len(),
        sum(&bench.bytes, Algorithm::Sha256).hex
    );
    fs::write(bench.target().with_extension("iso.part.toml"), side).unwrap();
    let before = bench.server.asked().len();
    bench.fetch(&bench.in_pieces(&["steady"]), &mut Heard::default()).unwrap();
    assert_eq!(fs::read(bench.target()).unwrap(), bench.bytes);
    let asked: Vec<_> = bench.server.asked().drain(before..).filter_map(|asked| asked.range).collect();
    assert_eq!(asked, [format!("bytes={}-{}", 5 * PIECE, 6 * PIECE - 1)]);
}

#[test]
fn two_fetches_a_full_disk_and_a_name_that_is_taken_end_in_clear_words() {
    let bench = Bench::new(100_000);
    let wanted = bench.wanted(&["steady"]);
    let held = PartFile::open(&bench.target(), &wanted).unwrap();
    let busy = bench.fetch(&wanted, &mut Heard::default()).unwrap_err();
    assert!(matches!(&busy, FetchError::Busy { .. }), "{busy}");
    drop(held);
    // Nothing came, and nothing is left of it.
    assert!(
        fs::read_dir(bench.target().parent().unwrap())
            .unwrap()
            .all(|entry| { !entry.unwrap().file_name().to_string_lossy().contains(".part") })
    );
    fs::write(bench.target().with_extension("iso.part"), "a browser's").unwrap();
    let foreign = bench.fetch(&wanted, &mut Heard::default()).unwrap_err();
    assert!(matches!(&foreign, FetchError::Foreign { .. }), "{foreign}");
    assert_eq!(fs::read(bench.target().with_extension("iso.part")).unwrap(), b"a browser's");
    fs::remove_file(bench.target().with_extension("iso.part")).unwrap();
    fs::write(bench.target(), "mine").unwrap();
    let taken = bench.fetch(&wanted, &mut Heard::default()).unwrap_err();
    assert!(taken.next_step().starts_with("move that file away"), "{taken}");
    assert_eq!(fs::read(bench.target()).unwrap(), b"mine");
    let nowhere = fetch(Path::new("/nowhere/x.iso"), &wanted, &mut Heard::default()).unwrap_err();
    assert!(matches!(&nowhere, FetchError::Folder { .. }), "{nowhere}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// However often it is stopped, and whatever its mirrors do, the end is the image or an error and no file.
    #[test]
    fn a_fetch_that_is_interrupted_anywhere_ends_equal(
        size in 1usize..700_000,
        stops in prop::collection::vec(0u64..700_000, 0..4),
        breaks in 70_000u64..300_000,
        wrong in 0u64..700_000,
        in_pieces: bool,
    ) {
        let bench = Bench::new(size);
        let manners = [format!("breaks-{breaks}"), format!("wrong-{wrong}"), "plain".to_owned()];
        let manners = manners.each_ref().map(String::as_str);
        let wanted = if in_pieces { bench.in_pieces(&manners) } else { bench.wanted(&manners) };
        for at in stops {
            let mut heard = Heard { stop_at: Some(at), ..Heard::default() };
            match bench.fetch(&wanted, &mut heard) {
                Ok(()) => break,
                Err(error) => prop_assert!(matches!(error, FetchError::Stopped), "{error}: {:?}", heard.told),
            }
        }
        if !bench.target().exists() {
            let mut heard = Heard::default();
            let end = bench.fetch(&wanted, &mut heard);
            prop_assert!(end.is_ok(), "{:?}: {:?}", end, heard.told);
        }
        prop_assert!(fs::read(bench.target()).unwrap() == bench.bytes);
    }
}

#[test]
fn a_mirror_that_is_far_too_slow_is_left_for_another() {
    let bench = Bench::new(400_000);
    let mut heard = Heard::default();
    bench.fetch(&bench.wanted(&["slow-20000", "steady"]), &mut heard).unwrap();
    // On a busy machine its next bytes may come later than a mirror may be silent.
    let left = [MirrorFault::Slow, MirrorFault::Silent].map(|fault| format!("slow-20000 again: {fault}"));
    assert!(heard.told.iter().any(|told| left.contains(told)), "{:?}", heard.told);
}

#[test]
fn what_comes_onward_is_whole_however_often_the_line_breaks() {
    let bench = Bench::new(400_000);
    let told = |manners: &[&str], at: u64| {
        let (read, told) = bench.onward(&bench.wanted(manners), at);
        let read = read.map(|bytes| bytes == bench.bytes[at as usize..]);
        format!("{manners:?} from {at}: {read:?}\n  {}", told.join("\n  "))
    };
    let all = [
        told(&["steady"], 0),
        told(&["steady"], 123_457),
        told(&["breaks-150000"], 1000),
        // Without parts, all of it comes again, and what is there is passed over.
        told(&["plain"], 300_000),
        told(&["gone", "busy"], 0),
        told(&["gone"], 0),
        told(&["silent", "steady"], 0),
    ];
    insta::assert_snapshot!("onward", all.join("\n"));
    // A mirror that says another length than published is left out.
    let published = Wanted { bytes: Some(400_000), ..bench.wanted(&["longer", "steady"]) };
    let (read, told) = bench.onward(&published, 0);
    assert_eq!(read.unwrap(), bench.bytes);
    assert!(told.iter().any(|line| line.starts_with("longer dropped: it has a file of ")), "{told:?}");
    // Of a damaged piece nothing is passed on: it comes again from the next mirror, and only it.
    let (read, told) = bench.onward(&bench.in_pieces(&["wrong-200000", "steady"]), 0);
    assert_eq!(read.unwrap(), bench.bytes);
    assert!(told.iter().any(|line| line == "steady sends from 196608"), "{told:?}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn from_any_place_on_the_rest_comes(at in 0u64..300_000, first in 70_000u64..200_000, in_pieces: bool) {
        let bench = Bench::new(300_000);
        let breaks = format!("breaks-{first}");
        let manners = [breaks.as_str(), "steady"];
        let wanted = if in_pieces { bench.in_pieces(&manners) } else { bench.wanted(&manners) };
        let (read, told) = bench.onward(&wanted, at);
        prop_assert_eq!(read.as_deref(), Ok(&bench.bytes[at as usize..]), "{:?}", told);
    }
}
