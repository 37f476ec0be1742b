//! The guard as a pure function: what it finds, and that nothing lifts a stop.

use proptest::prelude::*;
use pyrotyp_core::devices::arrived;
use pyrotyp_core::drive::{
    Bus, Choice, Drive, Holds, Link, NamedBy, Openers, Partition, Role, Saying, Surface, Tag, Use, Volume,
};
use pyrotyp_core::guard::{
    BenchPlace, Circumstances, Confirmed, IMAGE_RULES, ImageNeeds, RULES, clear, findings, findings_for_choice,
};
use pyrotyp_core::{Finding, FindingId, Level};

fn stick() -> Drive {
    let bytes = 16_008_609_792;
    Drive {
        tag: Tag::of(Some("Kestrin"), Some("Pocket"), Some("KP16-004417"), bytes),
        path: "/dev/sdb".into(),
        links: Vec::new(),
        says: Saying {
            vendor: Some("Kestrin".into()),
            model: Some("Pocket".into()),
            serial: Some("KP16-004417".into()),
            removable: true,
        },
        bytes,
        sector_bytes: 512,
        link: Link { bus: Bus::Usb, slot: None, mbps: Some(480), could_be_faster: false, port: None },
        attached_seconds: None,
        write_protected: false,
        generation: Some(9),
        holds: Holds { partitions: Vec::new(), whole: None, surface: Surface::Empty },
        uses: Vec::new(),
    }
}

/// A bench of which there is nothing to say.
fn nothing_special() -> Circumstances {
    Circumstances::unknown(Confirmed::ByPerson)
}

fn plan(bytes: u64, laid_out_for: Option<u32>) -> ImageNeeds {
    ImageNeeds { image: "larkspur.iso".into(), bytes, laid_out_for }
}

fn tag(text: &str) -> Tag {
    text.parse().unwrap()
}

fn told(drive: &Drive, plan: Option<&ImageNeeds>, circumstances: &Circumstances) -> String {
    let lines = findings(drive, plan, circumstances).into_iter().map(|found| {
        let Finding { id, level, text, next } = found;
        format!("{level:?} {id}: {text}{}{next}\n", if next.is_empty() { "" } else { " -> " })
    });
    lines.collect()
}

#[test]
fn each_finding_has_its_sentence_and_its_next_step() {
    let mut all = String::new();
    let mut add = |change: fn(&mut Drive)| {
        let mut drive = stick();
        change(&mut drive);
        let known = Circumstances { others: vec![tag("65387"), tag("NX2T8")], ..nothing_special() };
        all.push_str(&format!("{}\n", told(&drive, Some(&plan(8_000_000_001, Some(512))), &known)));
    };
    add(|drive| drive.uses = vec![Use::System { what: "/".into() }, Use::System { what: "swap".into() }]);
    add(|drive| drive.uses = vec![Use::Mounted { at: "/mnt".into() }, Use::Removable { at: "/media/a/B".into() }]);
    add(|drive| drive.uses = vec![Use::Mounted { at: "/srv/a; reboot".into() }]);
    add(|drive| drive.uses = vec![Use::Shared { at: "/media/a/PHOTOS, 2026".into() }]);
    add(|drive| drive.uses = vec![Use::Held { by: "dm-0 (cellar-home)".into() }]);
    add(|drive| (drive.bytes, drive.write_protected) = (8_000_000_000, true));
    add(|drive| drive.bytes = 0);
    add(|drive| (drive.sector_bytes, drive.link.could_be_faster) = (4096, true));
    add(|drive| drive.bytes = 256_000_000_000);
    add(|drive| drive.says.removable = false);
    add(|drive| drive.bytes = 1_000_204_886_016);
    add(|drive| drive.link.bus = Bus::Nvme);
    add(|drive| (drive.link.bus, drive.says.serial) = (Bus::Virtual, Some("/tmp/trial.img".into())));
    add(|drive| drive.tag = Tag::of(Some("Kestrin"), None, None, 1));
    add(|drive| {
        drive.link.slot = Some(1);
        drive.tag = Tag::in_slot(&Saying { vendor: Some("Brell".into()), model: None, ..stick().says }, 1, Some(1));
    });
    add(|drive| drive.uses = vec![Use::Taken { by: "cellar (process 12), which has it mounted at /srv".into() }]);
    add(|drive| drive.uses = vec![Use::Unknown { what: "the swap area /dev/x".into() }]);
    for (filesystem, label, drives) in [
        ("btrfs", Some("photographs"), Some(2)),
        ("btrfs", None, Some(1)),
        ("md", Some("cellar:0"), None),
        ("lvm2", Some("cellar"), None),
        ("zfs_member", None, None),
    ] {
        let volume = Volume {
            bytes: 1_000_000_000,
            filesystem: Some(filesystem.to_owned()),
            label: label.map(str::to_owned),
            mounted_at: None,
            drives,
            surface: Surface::Unread,
        };
        let drive = Drive { holds: Holds { whole: Some(volume), ..stick().holds }, ..stick() };
        all.push_str(&format!("{}\n", told(&drive, None, &nothing_special())));
    }
    for path in ["/dev/sdb", "/dev/sdc"] {
        let known = Circumstances {
            bench_on: vec![(path.into(), BenchPlace::Shelf), (path.into(), BenchPlace::Records)],
            protected: vec![if path == "/dev/sdb" { stick().tag } else { tag("65387") }],
            verified: vec![(stick().tag, 12)],
            unfinished: vec![(stick().tag, "larkspur.iso".into())],
            opened: vec![(path.into(), openers(&["rescue (process 71)"], false))],
            ..nothing_special()
        };
        all.push_str(&format!("{}\n", told(&stick(), None, &known)));
    }
    let mut add = |change: fn(&mut Drive)| {
        let mut drive = stick();
        change(&mut drive);
        all.push_str(&format!("{}\n", told(&drive, None, &nothing_special())));
    };
    add(|drive| {
        let volume = |filesystem: Option<&str>, label: Option<&str>| Volume {
            bytes: 1_000_000_000,
            filesystem: filesystem.map(str::to_owned),
            label: label.map(str::to_owned),
            mounted_at: None,
            drives: None,
            surface: Surface::Data,
        };
        let kinds = [volume(Some("fat32"), Some("HOLIDAY")), volume(None, None), volume(Some("ext4"), None)];
        let more = std::iter::repeat_n(volume(Some("ntfs"), None), 3);
        let numbered = kinds.into_iter().chain(more).zip(1..);
        drive.holds.partitions = numbered.map(|(volume, number)| Partition { number, volume }).collect();
    });
    insta::assert_snapshot!(all, @r#"
    Stop system-disk: this system runs from it (/, swap) -> choose another; no option opens the way to this one
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop in-use: it is mounted at /mnt -> make sure that it is not needed, then unmount it: umount /mnt
    Note mounted: it is in use at /media/a/B, and the job will unmount it
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop in-use: it is mounted at /srv/a; reboot -> make sure that it is not needed, then unmount it: umount '/srv/a; reboot'
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop in-use: it holds a part of what is mounted at /media/a/PHOTOS, 2026, and so do other drives -> make sure that it is not needed, then unmount it: umount '/media/a/PHOTOS, 2026'
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop in-use: it is part of dm-0 (cellar-home) -> make sure that it is not needed, then take that apart first
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop too-small: the image needs 8000000512 bytes (8.0 GB), the drive has 8000000000 (8.0 GB) -> choose a drive of 8.0 GB or more
    Stop write-protected: the drive is write-protected -> slide the lock switch of the card or stick; without one, it has given up for good
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop no-medium: there is no card in the reader -> put the card in
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask sector-size: its sectors have 4096 bytes, and the image counts in 512: no PC would start from it -> use another stick, or name this finding with --accept sector-size
    Note slow-port: it could be several times faster: it is plugged into a USB 2 port or hub; writing alone takes 4 minutes or more there
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Note far-larger: it has 256 GB and the image needs 8.0 GB: is it the right one?
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask external-disk: this is a disk on USB, not a stick: probably one with somebody's files -> choose a stick, or name this finding with --accept external-disk
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask external-disk: 1.0 TB is far larger than a stick: probably a disk with somebody's files -> choose a stick, or name this finding with --accept external-disk
    Note far-larger: it has 1.0 TB and the image needs 8.0 GB: is it the right one?
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask internal-disk: this is a disk inside the PC (NVMe) -> choose a stick, or name this finding with --accept internal-disk
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask virtual-drive: this is made by software from /tmp/trial.img -> for tests and trials, name this finding with --accept virtual-drive
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Note no-serial: it has no usable serial number: another drive may have the same tag
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Note no-serial: it is a card in a reader (slot 2): another card there may have the same tag
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Stop in-use: it is used by cellar (process 12), which has it mounted at /srv -> make sure that it is not needed, then end that first
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask use-unknown: what the swap area /dev/x lies on can't be told: it may be this drive -> make sure that it is another one, and name this finding with --accept use-unknown
    Note others-attached: other drives that could be meant are attached: 65387, NX2T8

    Ask part-of-group: it is a member of the btrfs volume "photographs" of 2 drives: other drives belong to it -> make sure that nobody needs it any more, and name this finding with --accept part-of-group
    Note has-data: holds "photographs" (btrfs)

    Note has-data: holds an unnamed volume (btrfs)

    Ask part-of-group: it is a member of the array "cellar:0": other drives belong to it -> make sure that nobody needs it any more, and name this finding with --accept part-of-group
    Note has-data: holds "cellar:0" (md)

    Ask part-of-group: it is a member of the LVM group "cellar": other drives belong to it -> make sure that nobody needs it any more, and name this finding with --accept part-of-group
    Note has-data: holds "cellar" (lvm2)

    Ask part-of-group: it is a member of a ZFS pool: other drives belong to it -> make sure that nobody needs it any more, and name this finding with --accept part-of-group
    Note has-data: holds an unnamed volume (zfs_member)

    Stop bench-on-target: the shelf and the records of this bench lie on it -> choose another, or keep them elsewhere with --state
    Stop protected: it is on this bench's list of protected drives -> choose another; `protect` in the settings file holds the list
    Ask just-verified: an earlier job has verified it 12 minutes ago: it may belong to the finished ones -> take another, or name this finding with --accept just-verified
    Ask held-open: rescue (process 71) has it open: it may be copying it -> wait until that has ended, or name this finding with --accept held-open
    Note use-unknown: not all running programs could be inspected: one may have the drive open; sudo inspects all
    Note unfinished-job: the last job on it did not end: larkspur.iso was being written to it

    Ask just-verified: an earlier job has verified it 12 minutes ago: it may belong to the finished ones -> take another, or name this finding with --accept just-verified
    Note unfinished-job: the last job on it did not end: larkspur.iso was being written to it

    Note has-data: holds "HOLIDAY" (fat32, 1.0 GB), an unnamed volume (ext4, 1.0 GB), an unnamed volume (ntfs, 1.0 GB), an unnamed volume (ntfs, 1.0 GB) and 2 more
    "#);
}

#[test]
fn a_finding_stands_from_its_limit_on_and_no_earlier() {
    let whole = |drive: &Drive, needs, laid_out_for| told(drive, Some(&plan(needs, laid_out_for)), &nothing_special());
    let full = stick();
    let plain = whole(&full, full.bytes, Some(full.sector_bytes));
    assert!(!plain.contains("too-small") && !plain.contains("sector-size"), "{plain}");
    assert!(whole(&full, full.bytes + 1, None).contains("Stop too-small"));
    assert!(whole(&full, 1, Some(full.sector_bytes * 8)).contains("Ask sector-size"));
    // Of what is not there, only that is told.
    let empty = whole(&Drive { bytes: 0, ..stick() }, 1, Some(full.sector_bytes * 8));
    assert!(empty.starts_with("Stop no-medium") && !empty.contains("sector-size"), "{empty}");
    let unsure = Drive { tag: tag("590J?"), ..stick() };
    let unsure = |bytes| told(&Drive { bytes, ..unsure.clone() }, None, &nothing_special());
    assert!(unsure(1).contains("Note no-serial") && !unsure(0).contains("no-serial"));
    // An image of which nothing is known is not a small one.
    let large = |needs| whole(&Drive { bytes: 64_000_000_000, ..stick() }, needs, None).contains("far-larger");
    assert_eq!([large(0), large(4_000_000_000), large(4_000_000_001)], [false, true, false]);
}

#[test]
fn where_nobody_confirms_it_only_a_tag_of_its_own_proves_which_drive_is_meant() {
    let twin = "/dev/sdc".to_owned();
    let why = |drive: Drive, by, attached: &[(Tag, String)]| {
        let known = Circumstances { confirmed: Confirmed::ByNobody, attached: attached.to_vec(), ..nothing_special() };
        let found = findings_for_choice(&Choice { drive, by, partition: None }, None, &known);
        found.into_iter().find(|finding| finding.id == FindingId::NoProof).map(|finding| finding.text)
    };
    let (own, other) = ((stick().tag, stick().path), (tag("65387"), twin.clone()));
    assert_eq!(why(stick(), NamedBy::Tag, &[own.clone(), other.clone()]), None);
    let found = [
        why(stick(), NamedBy::Tag, &[own.clone(), (stick().tag, twin.clone())]),
        why(Drive { tag: tag("590J?"), ..stick() }, NamedBy::Tag, &[]),
        why(stick(), NamedBy::Arriving, &[own.clone(), other]),
        why(stick(), NamedBy::KernelName, std::slice::from_ref(&own)),
        why(stick(), NamedBy::StableLink, std::slice::from_ref(&own)),
    ];
    insta::assert_snapshot!(found.map(Option::unwrap).join("\n"), @"
    the tag DBR7J fits another attached drive as well
    the tag 590J? proves nothing: it may belong to another drive or card
    that a drive was plugged in just now proves nothing
    the name /dev/sdb proves nothing: the next drive plugged in may get it
    the name /dev/sdb proves nothing: the next drive plugged in may get it
    ");
    // A person who looks at it confirms any of them.
    let known = Circumstances { attached: vec![own.clone(), (stick().tag, twin.clone())], ..nothing_special() };
    let choice = Choice { drive: stick(), by: NamedBy::KernelName, partition: None };
    assert!(findings_for_choice(&choice, None, &known).iter().all(|finding| finding.id != FindingId::NoProof));
    assert_eq!(known.namesakes(&stick()).collect::<Vec<_>>(), [twin]);
}

#[test]
fn an_id_lifts_its_own_finding_and_the_heaviest_comes_first() {
    let known = Circumstances { verified: vec![(stick().tag, 3)], ..nothing_special() };
    let disk = Drive { says: Saying { removable: false, ..stick().says }, ..stick() };
    let choice = Choice { drive: disk, by: NamedBy::Tag, partition: None };
    let standing = |accepted: &[&str], needs, about_image: &[Finding]| {
        let accepted: Vec<FindingId> = accepted.iter().map(|id| id.parse().unwrap()).collect();
        let refused = clear(&choice, &plan(needs, None), &known, about_image, &accepted).err();
        refused.map(|refused| refused.standing.iter().map(|finding| finding.id.word()).collect::<Vec<_>>())
    };
    assert_eq!(standing(&["external-disk"], 1, &[]), Some(vec!["just-verified"]));
    assert_eq!(standing(&["just-verified"], 1, &[]), Some(vec!["external-disk"]));
    assert_eq!(standing(&["just-verified", "external-disk"], 1, &[]), None);
    let data = [Finding::ask(FindingId::NothingToStart, "it holds data only", "")];
    assert_eq!(standing(&["just-verified", "external-disk"], 1, &data), Some(vec!["nothing-to-start"]));
    let heaviest = standing(&["external-disk"], u64::MAX, &data).unwrap();
    assert_eq!(heaviest, ["too-small", "nothing-to-start", "just-verified"]);
    let refused = clear(&choice, &plan(1, None), &known, &data, &[FindingId::ExternalDisk]).unwrap_err();
    assert_eq!(refused.to_string(), format!("drive {} stays as it is: nothing-to-start, just-verified", stick().tag));
    let found = findings(&choice.drive, Some(&plan(u64::MAX, None)), &known);
    assert!(found.is_sorted_by_key(|finding| std::cmp::Reverse(finding.level)));
}

#[test]
fn what_is_on_a_drive_is_told_with_the_whole_before_its_parts() {
    let data = |drive: &Drive| {
        let found = findings(drive, None, &nothing_special());
        found.into_iter().find(|finding| finding.id == FindingId::HasData).map(|finding| finding.text)
    };
    let volume = |filesystem: Option<&str>, surface| Volume {
        bytes: 1_000_000_000,
        filesystem: filesystem.map(str::to_owned),
        surface,
        ..Volume::default()
    };
    let part = |number, volume| Partition { number, volume };
    let whole = Drive {
        holds: Holds {
            whole: Some(volume(Some("iso9660"), Surface::Unread)),
            partitions: vec![part(1, volume(None, Surface::Data)), part(2, volume(Some("fat32"), Surface::Unread))],
            surface: Surface::Empty,
        },
        ..stick()
    };
    assert_eq!(data(&whole).unwrap(), "holds an unnamed volume (iso9660), an unnamed volume (fat32, 1.0 GB)");
    // Where nothing is known of the whole, its parts speak.
    let parts = Drive { holds: Holds { whole: Some(volume(None, Surface::Unread)), ..whole.holds.clone() }, ..whole };
    assert_eq!(
        data(&parts).unwrap(),
        "holds an unnamed volume (fat32, 1.0 GB), an unnamed volume (data of no kind that is known here, 1.0 GB)"
    );
    assert_eq!(data(&stick()), None);
    assert_eq!(
        data(&Drive { holds: Holds { surface: Surface::Data, ..stick().holds }, ..stick() }).unwrap(),
        "holds data of no kind that is known here"
    );
}

#[test]
fn a_proof_tells_what_it_is_for_and_what_was_accepted() {
    let choice = Choice { drive: stick(), by: NamedBy::Tag, partition: None };
    let programs = ["copier (process 4711)".to_owned()];
    let mut known = nothing_special();
    known.opened = vec![
        (stick().path, openers(&["copier (process 4711)"], true)),
        ("/dev/sdz".into(), openers(&["another"], true)),
    ];
    let accepted = [FindingId::HeldOpen];
    let for_what = plan(1_000_000, Some(512));
    let refused = clear(&choice, &for_what, &known, &[], &[]).unwrap_err();
    assert_eq!(refused.standing.iter().map(|finding| finding.id).collect::<Vec<_>>(), accepted);
    let cleared = clear(&choice, &for_what, &known, &[], &accepted).unwrap();
    assert_eq!((cleared.drive(), cleared.needs(), cleared.opened_by()), (&stick(), &for_what, &programs[..]));
}

#[test]
fn only_a_drive_that_was_not_there_before_has_arrived() {
    let (here, slot) = (stick(), Drive { path: "/dev/sdc".into(), bytes: 0, ..stick() });
    let before = [here.clone(), slot.clone()];
    assert_eq!(arrived(&before, &before), None);
    // The same stick in another port, another medium in the same place, a card in the reader's empty slot.
    let moved = Drive { path: "/dev/sdd".into(), ..here.clone() };
    let swapped = Drive { generation: Some(10), ..here.clone() };
    let filled = Drive { bytes: 32 << 30, generation: Some(11), ..slot.clone() };
    for new in [moved, swapped, filled] {
        assert_eq!(arrived(&before, &[slot.clone(), new.clone()]), Some(&new));
    }
    assert_eq!(arrived(&before, &[]), None);
    assert_eq!(arrived(&[], std::slice::from_ref(&slot)), None, "a reader without a card has not arrived");
    assert!(here.is_still(&stick()));
}

#[test]
fn a_role_follows_from_what_the_drive_says_of_itself() {
    let role = |change: fn(&mut Drive)| {
        let mut drive = stick();
        change(&mut drive);
        drive.role()
    };
    assert_eq!(role(|_| ()), Role::Stick);
    assert_eq!(role(|drive| drive.bytes = 0), Role::Card);
    assert_eq!(role(|drive| drive.link.slot = Some(0)), Role::Card);
    assert_eq!(role(|drive| drive.link.bus = Bus::Mmc), Role::Card);
    assert_eq!(role(|drive| (drive.link.bus, drive.says.removable) = (Bus::Mmc, false)), Role::Internal);
    assert_eq!(role(|drive| drive.says.removable = false), Role::External);
    assert_eq!(role(|drive| drive.bytes = 512_000_000_000), Role::External);
    assert_eq!(role(|drive| drive.link.bus = Bus::Ata), Role::Internal);
    assert_eq!(role(|drive| drive.link.bus = Bus::Virtual), Role::Virtual);
    assert_eq!(role(|drive| drive.uses = vec![Use::System { what: "/".into() }]), Role::System);
}

#[test]
fn every_rule_has_one_id() {
    let mut ids: Vec<_> = RULES.iter().chain(&IMAGE_RULES).map(|rule| rule.id).collect();
    let all = ids.len();
    ids.sort();
    ids.dedup();
    assert_eq!(ids.len(), all);
}

fn any_use() -> impl Strategy<Value = Use> {
    prop_oneof![
        Just(Use::System { what: "/home".into() }),
        Just(Use::Mounted { at: "/srv/x".into() }),
        Just(Use::Removable { at: "/media/ann/X".into() }),
        Just(Use::Shared { at: "/media/ann/X".into() }),
        Just(Use::Held { by: "md0".into() }),
        Just(Use::Taken { by: "cellar (process 12)".into() }),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4096, failure_persistence: None, ..ProptestConfig::default() })]

    /// A stop stands whatever is accepted; without one, all asked findings named let the job on.
    #[test]
    fn a_stop_is_lifted_by_nothing(
        bus in prop_oneof![Just(Bus::Usb), Just(Bus::Ata), Just(Bus::Nvme), Just(Bus::Mmc), Just(Bus::Virtual)],
        sectors in prop_oneof![Just(0u64), 1u64..1 << 36],
        needs in 0u64..1 << 45,
        is_protected: bool,
        has_namesake: bool,
        is_unsure: bool,
        removable: bool,
        write_protected: bool,
        unattended: bool,
        image_on_it: bool,
        partition in proptest::option::of(1u32..9),
        by in prop_oneof![Just(NamedBy::Tag), Just(NamedBy::StableLink), Just(NamedBy::KernelName), Just(NamedBy::Arriving)],
        uses in proptest::collection::vec(any_use(), 0..3),
        accepted in proptest::sample::subsequence(RULES.iter().chain(&IMAGE_RULES).map(|rule| rule.id).collect::<Vec<_>>(), 0..RULES.len()),
    ) {
        let bytes = sectors * 512;
        let dangerous = uses.iter().any(|use_| !matches!(use_, Use::Removable { .. }));
        let tag_of = if is_unsure { Tag::of(None, None, None, bytes) } else { stick().tag };
        let (says, link) = (Saying { removable, ..stick().says }, Link { bus, ..stick().link });
        let drive = Drive { tag: tag_of, bytes, write_protected, uses, says, link, ..stick() };
        let circumstances = Circumstances {
            image_on: if image_on_it { vec![drive.path.clone()] } else { Vec::new() },
            protected: if is_protected { vec![drive.tag.clone()] } else { vec![tag("65387")] },
            attached: if has_namesake { vec![(drive.tag.clone(), "/dev/sdz".into())] } else { Vec::new() },
            confirmed: if unattended { Confirmed::ByNobody } else { Confirmed::ByPerson },
            ..nothing_special()
        };
        let plan = plan(needs, None);
        let choice = Choice { drive, by, partition };
        let must_stop = dangerous
            || bytes == 0
            || write_protected
            || image_on_it
            || partition.is_some()
            || is_protected
            || (unattended && (by != NamedBy::Tag || has_namesake || is_unsure))
            || needs > bytes;
        let everything = RULES.map(|rule| rule.id);
        prop_assert_eq!(clear(&choice, &plan, &circumstances, &[], &everything).is_err(), must_stop);
        let judged = clear(&choice, &plan, &circumstances, &[], &accepted);
        let asks = findings_for_choice(&choice, Some(&plan), &circumstances).into_iter().filter(|found| found.level == Level::Ask);
        let all_named = asks.into_iter().all(|found| accepted.contains(&found.id));
        prop_assert_eq!(judged.is_ok(), !must_stop && all_named);
        if must_stop {
            prop_assert!(judged.unwrap_err().standing.iter().any(|finding| finding.level == Level::Stop));
        } else if let Err(refused) = judged {
            for finding in refused.standing {
                prop_assert_eq!(finding.level, Level::Ask);
                prop_assert!(!accepted.contains(&finding.id.to_owned()), "{} was accepted", finding.id);
            }
        }
    }
}

#[test]
fn a_kernel_name_counts_for_little_while_it_is_fresh() {
    let found = |by, seconds| {
        let drive = Drive { attached_seconds: Some(seconds), ..stick() };
        let choice = Choice { drive, by, partition: None };
        let refused = clear(&choice, &plan(1, None), &nothing_special(), &[], &[]).err();
        refused.map(|refused| refused.standing[0].text.clone())
    };
    let text = found(NamedBy::KernelName, 4).unwrap();
    assert_eq!(text, "the name /dev/sdb was given to it 4 seconds ago: another drive may have had it before");
    assert_eq!((found(NamedBy::KernelName, 10), found(NamedBy::Tag, 4)), (None, None));
}

fn openers(programs: &[&str], is_complete: bool) -> Openers {
    Openers { programs: programs.iter().map(|name| (*name).to_owned()).collect(), is_complete }
}
