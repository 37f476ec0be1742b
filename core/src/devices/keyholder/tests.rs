use std::os::fd::AsFd;

use proptest::prelude::*;
use rustix::net::{AddressFamily, SocketFlags, SocketType};

use super::holder::{Keyholder, LOOK_HOLDS, SystemDrives};
use super::line::{self, Beside};
use super::wording::{Answer, Named, QUESTION_BYTES_MOST, Question, Reading, Refusal, Why};
use crate::devices::linux::tests::Machine;
use crate::devices::{After, PlatformError};
use crate::drive::Tag;

const BYTES: u64 = 8 << 20;
const NAMES: [&str; 3] = ["sda", "sdb", "sdc"];

/// A machine that runs from `sda`, with a stick `sdb`, and `sdc` mounted on purpose.
fn machine() -> Machine {
    let mut machine = Machine::new();
    std::fs::create_dir_all(machine.folder.path().join("dev")).unwrap();
    for name in NAMES {
        machine.disk("pci/ata1", name, BYTES, 1);
        // What is a file here has no sequence number that its handle could tell.
        std::fs::remove_file(machine.folder.path().join(format!("sys/block/{name}/diskseq"))).unwrap();
        let node = std::fs::File::create(machine.folder.path().join("dev").join(name)).unwrap();
        node.set_len(BYTES).unwrap();
    }
    machine.mount("sda1", "/", "ext4", "rw");
    machine.mount("sdc1", "/srv", "ext4", "rw");
    machine
}

fn named(name: &str) -> Named {
    Named { name: name.to_owned(), bytes: BYTES, generation: None }
}

fn forbidden(answer: &Answer, why: &str) -> bool {
    matches!(answer, Answer::Refused(Refusal::Forbidden(said)) if said.contains(why))
}

#[test]
fn what_the_system_runs_from_is_neither_read_nor_claimed_and_a_stick_is_handed_over() {
    let machine = machine();
    let mut keyholder = Keyholder::new(machine.linux(), SystemDrives::Closed);
    let (answer, file) = keyholder.answer(Question::Read(named("sdb"), Reading::Cached));
    assert!(matches!(answer, Answer::Opened));
    assert_eq!(std::fs::File::from(file.unwrap()).metadata().unwrap().len(), BYTES);
    for reading in [Reading::Cached, Reading::Direct] {
        let (answer, file) = keyholder.answer(Question::Read(named("sda"), reading));
        assert!(forbidden(&answer, "this system runs from it (/)") && file.is_none(), "{answer:?}");
    }
    for (name, why) in [("sda", "this system runs from it"), ("sdc", "/srv")] {
        let (answer, file) = keyholder.answer(Question::Claim(named(name), Vec::new()));
        assert!(forbidden(&answer, why) && file.is_none(), "{answer:?}");
    }
    // The guard lets it through; that a file is no block device is found later.
    let (answer, _) = keyholder.answer(Question::Claim(named("sdb"), Vec::new()));
    assert!(matches!(answer, Answer::Refused(Refusal::Gone | Refusal::Open(_))), "{answer:?}");
    // Neither a part of it, nor another place, nor a drive that was there before is the one that is meant.
    let others = [
        named("sdb1"),
        named("../sda"),
        named(""),
        named(&"s".repeat(4000)),
        Named { bytes: BYTES + 512, ..named("sdb") },
        Named { generation: Some(7), ..named("sdb") },
    ];
    for other in others {
        let (answer, file) = keyholder.answer(Question::Read(other, Reading::Cached));
        assert!(matches!(answer, Answer::Refused(Refusal::Gone)) && file.is_none(), "{answer:?}");
    }
    let (answer, _) = keyholder.answer(Question::Release(7, Some(After::Eject)));
    assert!(matches!(answer, Answer::Released));
    // Where root itself asked for what is on a drive, it is read, and claimed all the less.
    let mut of_root = Keyholder::new(machine.linux(), SystemDrives::Readable);
    assert!(matches!(of_root.answer(Question::Read(named("sda"), Reading::Cached)), (Answer::Opened, Some(_))));
    assert!(forbidden(&of_root.answer(Question::Claim(named("sda"), Vec::new())).0, "this system runs from it"));
    let (answer, _) = keyholder.answer(Question::Uses);
    let Answer::Uses(uses) = answer else { panic!("{answer:?}") };
    assert_eq!(uses.len(), 2, "{uses:?}");
}

#[test]
fn a_drive_that_the_system_needs_since_the_last_look_is_not_read() {
    let mut machine = machine();
    let mut keyholder = Keyholder::new(machine.linux(), SystemDrives::Closed);
    let mut read = || keyholder.answer(Question::Read(named("sdb"), Reading::Cached)).0;
    assert!(matches!(read(), Answer::Opened));
    machine.mount("sdb1", "/boot", "vfat", "rw");
    // The folder is written anew.
    machine.linux();
    std::thread::sleep(LOOK_HOLDS);
    assert!(forbidden(&read(), "this system runs from it (/boot)"));
}

#[test]
fn nothing_but_an_end_of_a_line_is_one_and_who_has_ended_says_nothing() {
    let (ours, theirs) = line::pair().unwrap();
    assert!(line::is_line(&ours) && line::is_line(&theirs));
    let pair = |kind| rustix::net::socketpair(AddressFamily::UNIX, kind, SocketFlags::CLOEXEC, None).unwrap().0;
    assert!(!line::is_line(pair(SocketType::STREAM)) && !line::is_line(pair(SocketType::DGRAM)));
    assert!(!line::is_line(std::net::UdpSocket::bind("127.0.0.1:0").unwrap()));
    assert!(!line::is_line(std::fs::File::open("/dev/null").unwrap()));
    drop(theirs);
    assert!(line::hear(&ours, &mut [0; 8], Beside::File).unwrap().is_none());
}

fn question() -> impl Strategy<Value = Vec<u8>> {
    let name = prop_oneof![prop::sample::select(NAMES.as_slice()).prop_map(str::to_owned), "[./a-z0-9]{0,40}",];
    let drive = (name, prop_oneof![Just(BYTES), any::<u64>()], prop_oneof![Just(None), any::<Option<u64>>()]);
    let drive = drive.prop_map(|(name, bytes, generation)| Named { name, bytes, generation });
    let asked = prop_oneof![
        Just(Question::Uses),
        drive.clone().prop_map(Question::Openers),
        drive.clone().prop_map(|drive| Question::Read(drive, Reading::Cached)),
        (drive, prop::collection::vec(".{0,200}", 0..12)).prop_map(|(drive, names)| Question::Claim(drive, names)),
        (any::<u32>(), any::<bool>()).prop_map(|(number, _)| Question::Release(number, Some(After::Keep))),
    ];
    let words = asked.prop_map(|asked| serde_json::to_vec(&asked).unwrap());
    let bent = (words.clone(), any::<prop::sample::Index>(), any::<u8>()).prop_map(|(mut words, at, byte)| {
        let at = at.index(words.len());
        words[at] = byte;
        words
    });
    prop_oneof![3 => words, 1 => bent, 1 => prop::collection::vec(any::<u8>(), 1..300)]
}

proptest! {
    #[test]
    fn whatever_is_said_the_keyholder_answers_or_ends_and_opens_nothing_that_it_must_not(
        said in prop::collection::vec(question(), 1..20)
    ) {
        let machine = machine();
        let (ours, theirs) = line::pair().unwrap();
        let mut keyholder = Keyholder::new(machine.linux(), SystemDrives::Closed);
        for words in said {
            line::say(&theirs, &words, None).unwrap();
            if !keyholder.serve(&ours, std::process::id()) {
                prop_assert!(Question::of(&words).is_none());
                break;
            }
            let mut answer = vec![0; 64 << 10];
            let (length, file) = line::hear(&theirs, &mut answer, Beside::File).unwrap().unwrap();
            let answer: Answer = serde_json::from_slice(&answer[..length]).unwrap();
            if matches!(Question::of(&words), Some(Question::Claim(drive, _)) if drive == named("sda") || drive == named("sdc")) {
                prop_assert!(matches!(answer, Answer::Refused(Refusal::Forbidden(_))));
            }
            prop_assert_eq!(matches!(answer, Answer::Opened), file.is_some());
            if file.is_some() {
                prop_assert!(matches!(Question::of(&words), Some(Question::Read(drive, _)) if drive.name != "sda"));
            }
        }
    }
}

#[test]
fn who_says_too_much_or_hands_something_over_is_not_listened_to() {
    let machine = machine();
    let serve = |words: &[u8], beside: bool| {
        let (ours, theirs) = line::pair().unwrap();
        line::say(&theirs, words, beside.then(|| theirs.as_fd())).unwrap();
        Keyholder::new(machine.linux(), SystemDrives::Closed).serve(&ours, std::process::id())
    };
    let uses = serde_json::to_vec(&Question::Uses).unwrap();
    assert!(serve(&uses, false));
    assert!(!serve(&uses, true));
    let mut long = uses.clone();
    long.resize(QUESTION_BYTES_MOST, b' ');
    assert!(serve(&long, false));
    long.push(b' ');
    assert!(!serve(&long, false));
    let claim = |names: Vec<String>| serde_json::to_vec(&Question::Claim(named("sda"), names)).unwrap();
    assert!(serve(&claim(vec!["a".repeat(128); 8]), false));
    assert!(!serve(&claim(vec!["a".repeat(129)]), false));
    assert!(!serve(&claim(vec!["a".to_owned(); 9]), false));
    // Whoever has ended asks nothing more.
    let (ours, theirs) = line::pair().unwrap();
    drop(theirs);
    assert!(!Keyholder::new(machine.linux(), SystemDrives::Closed).serve(&ours, std::process::id()));
}

#[test]
fn an_error_is_the_same_on_the_other_side() {
    let tag: Tag = "DBR7J".parse().unwrap();
    let io = || std::io::Error::from_raw_os_error(16);
    let errors = [
        PlatformError::Gone { tag: tag.clone() },
        PlatformError::Held { tag: tag.clone(), path: "/dev/sdb".to_owned(), by: vec!["mpv (process 7)".to_owned()] },
        PlatformError::Unmount { tag: tag.clone(), at: "/media/x".to_owned(), source: io(), by: Vec::new() },
        PlatformError::Open { tag: tag.clone(), path: "/dev/sdb".to_owned(), source: io() },
        PlatformError::Table { tag: tag.clone(), source: io() },
        PlatformError::Eject { tag: tag.clone(), source: std::io::Error::other("no answer") },
        PlatformError::Unreadable { what: "/proc".to_owned(), source: io() },
        PlatformError::AfterUnmount {
            at: vec!["/media/x".to_owned()],
            came_to: Box::new(PlatformError::Gone { tag: tag.clone() }),
        },
    ];
    for error in errors {
        let words = serde_json::to_vec(&Answer::Refused(Refusal::from(&error))).unwrap();
        let Answer::Refused(refusal) = serde_json::from_slice(&words).unwrap() else { panic!() };
        let there = refusal.of(&tag, "/dev/sdb");
        assert_eq!(crate::text::chain(&there), crate::text::chain(&error));
    }
    let other = PlatformError::NoPermission { what: "read", tag: tag.clone(), path: "/dev/sdb".to_owned() };
    assert_eq!(Refusal::from(&other), Refusal::Open(Why::Words(other.to_string())));
}
