//! Made-up machines as folders that look like sysfs and procfs.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use std::ops::Range;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use proptest::prelude::*;

use crate::devices::Platform;
use crate::devices::linux::{LOOKS, Linux, found_each_time};
use crate::drive::{Choice, Drive, NamedBy, Role, Use};
use crate::guard::{IMAGE_RULES, ImageNeeds, RULES, clear};
use crate::plan::{Bench, Intent, survey};

/// A machine of folders; numbers of devices are given out in order.
pub(in crate::devices) struct Machine {
    pub folder: tempfile::TempDir,
    next_minor: u32,
    numbers: BTreeMap<String, String>,
    mounts: String,
    swaps: String,
}

impl Machine {
    pub(in crate::devices) fn new() -> Self {
        // Thousands of small files: in memory, where there is such a place.
        let memory = Path::new("/dev/shm");
        let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() }.unwrap();
        for sub in ["sys/block", "proc/self", "dev/disk/by-id"] {
            fs::create_dir_all(folder.path().join(sub)).unwrap();
        }
        let swaps = "Filename Type Size Used Priority\n".to_owned();
        Self { folder, next_minor: 0, numbers: BTreeMap::new(), mounts: String::new(), swaps }
    }

    fn put(&self, path: &str, text: &str) {
        let path = self.folder.path().join("sys").join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, format!("{text}\n")).unwrap();
    }

    fn number(&mut self, name: &str) -> String {
        self.next_minor += 1;
        let number = format!("8:{}", self.next_minor);
        self.numbers.insert(name.to_owned(), number.clone());
        number
    }

    /// A disk below the folder `parent` of the tree of devices.
    pub(in crate::devices) fn disk(&mut self, parent: &str, name: &str, bytes: u64, partitions: u32) -> String {
        let base = format!("devices/{parent}/block/{name}");
        let number = self.number(name);
        let attributes = [
            ("dev", number),
            ("size", (bytes / 512).to_string()),
            ("ro", "0".into()),
            ("removable", "0".into()),
            ("diskseq", "3".into()),
            ("queue/logical_block_size", "512".into()),
        ];
        attributes.iter().for_each(|(attribute, value)| self.put(&format!("{base}/{attribute}"), value));
        for part in 1..=partitions {
            let digit = name.ends_with(|c: char| c.is_ascii_digit());
            let part_name = if digit { format!("{name}p{part}") } else { format!("{name}{part}") };
            let number = self.number(&part_name);
            let sectors = bytes / 512 / u64::from(partitions + 1);
            let start = (sectors * u64::from(part)).to_string();
            let values =
                [("dev", number), ("partition", part.to_string()), ("start", start), ("size", sectors.to_string())];
            values.iter().for_each(|(attribute, value)| self.put(&format!("{base}/{part_name}/{attribute}"), value));
        }
        let link = self.folder.path().join("sys/block").join(name);
        symlink(self.folder.path().join("sys").join(&base), link).unwrap();
        base
    }

    fn inner(&mut self, name: &str, partitions: u32) -> String {
        let base = self.disk(&format!("pci0/ata1/host0/{name}"), name, 512 << 30, partitions);
        self.put(&format!("{base}/device/model"), "NV2");
        base
    }

    fn stick(&mut self, name: &str, partitions: u32) -> String {
        let port = format!("pci0/usb2/2-{name}");
        let serial = format!("KP16-{name}");
        let values = [("idVendor", "1d6b"), ("serial", &*serial), ("speed", "480"), ("product", "Storage")];
        values.iter().for_each(|(attribute, value)| self.put(&format!("devices/{port}/{attribute}"), value));
        let base = self.disk(&format!("{port}/host6"), name, 16 << 30, partitions);
        let values = [("device/vendor", "Kestrin "), ("device/model", "Pocket          "), ("removable", "1")];
        values.iter().for_each(|(attribute, value)| self.put(&format!("{base}/{attribute}"), value));
        base
    }

    /// A device made of others, such as `dm-0` of `sda2`.
    fn stacked(&mut self, name: &str, members: &[&str]) -> String {
        let base = self.disk("virtual", name, 1 << 30, 0);
        for member in members {
            self.put(&format!("{base}/slaves/{member}"), "");
            let whole = member.trim_end_matches(|c: char| c.is_ascii_digit());
            let place = if self.folder.path().join("sys/block").join(member).exists() {
                format!("block/{member}")
            } else {
                format!("block/{whole}/{member}")
            };
            self.put(&format!("{place}/holders/{name}"), "");
        }
        base
    }

    fn loop_over(&mut self, name: &str, file: &str) {
        let base = self.disk("virtual", name, 1 << 30, 0);
        self.put(&format!("{base}/loop/backing_file"), file);
    }

    /// A mount of a device, or of none where the file system has none of its own.
    pub(in crate::devices) fn mount(&mut self, device: &str, at: &str, filesystem: &str, options: &str) {
        let number = self.numbers.get(device).cloned().unwrap_or_else(|| "0:99".into());
        let source = if device.is_empty() { filesystem.to_owned() } else { format!("/dev/{device}") };
        self.mounts.push_str(&format!("30 1 {number} / {at} rw shared:1 - {filesystem} {source} {options}\n"));
    }

    pub(in crate::devices) fn linux(&self) -> Linux {
        let path = |sub: &str| self.folder.path().join(sub);
        fs::write(path("proc/self/mountinfo"), &self.mounts).unwrap();
        fs::write(path("proc/swaps"), &self.swaps).unwrap();
        Linux { sys: path("sys"), proc: path("proc"), dev: path("dev"), ..Linux::default() }
    }

    fn drives(&self) -> Vec<Drive> {
        self.linux().drives().unwrap()
    }

    /// What the system needs each drive for, a line each.
    fn uses(&self) -> String {
        let words = |use_: &Use| match use_ {
            Use::System { what } => format!("system {what}"),
            Use::Removable { at } => format!("removable {at}"),
            Use::Mounted { at } => format!("mounted {at}"),
            Use::Shared { at } => format!("shared {at}"),
            Use::Held { by } => format!("held {by}"),
            Use::Taken { by } => format!("taken {by}"),
            Use::Unknown { what } => format!("unknown {what}"),
        };
        let name = |drive: &Drive| PathBuf::from(&drive.path).file_name().unwrap().to_str().unwrap().to_owned();
        let line = |drive: Drive| {
            let uses: Vec<_> = drive.uses.iter().map(words).collect();
            format!("{}: {}\n", name(&drive), if uses.is_empty() { "free".into() } else { uses.join(", ") })
        };
        self.drives().into_iter().map(line).collect()
    }
}

#[test]
fn a_stick_is_described_by_what_it_says_of_itself() {
    let mut machine = Machine::new();
    machine.inner("sda", 2);
    machine.stick("sdb", 1);
    let drives = machine.drives();
    let stick = drives[1].clone();
    assert_eq!((stick.name().as_str(), stick.role(), stick.link.mbps), ("Kestrin Pocket", Role::Stick, Some(480)));
    assert_eq!((stick.bytes, stick.generation, stick.holds.partitions.len()), (16 << 30, Some(3), 1));
    assert_eq!(drives[0].role(), Role::Internal);
    // A stick made for USB 3 says so even where it is slow.
    assert!(!stick.link.could_be_faster);
    machine.put("devices/pci0/usb2/2-sdb/version", " 2.10");
    assert!(machine.drives()[1].link.could_be_faster);
    // The tag is that of the stick, wherever it is plugged in.
    let mut other = Machine::new();
    other.stick("sdq", 0);
    other.put("devices/pci0/usb2/2-sdq/serial", "KP16-sdb");
    assert_eq!(other.drives()[0].tag, stick.tag);
}

#[test]
fn a_plain_system_disk_is_known_by_root_swap_and_boot() {
    let mut machine = Machine::new();
    machine.inner("sda", 3);
    machine.stick("sdb", 1);
    machine.mount("sda2", "/", "ext4", "rw");
    machine.mount("sda1", "/boot/efi", "vfat", "rw");
    machine.mount("sdb1", "/media/ann/MY\\040STICK", "vfat", "rw");
    machine.swaps.push_str("/dev/sda3 partition 100 0 -2\n");
    insta::assert_snapshot!(machine.uses(), @"
    sda: system /, system /boot/efi, system swap
    sdb: removable /media/ann/MY STICK
    ");
}

#[test]
fn root_on_encrypted_logical_volumes_over_an_array_leads_to_every_member() {
    let mut machine = Machine::new();
    machine.inner("sda", 1);
    machine.inner("sdb", 1);
    machine.inner("sdc", 0);
    machine.stacked("md0", &["sda1", "sdb1"]);
    let crypt = machine.stacked("dm-0", &["md0"]);
    machine.put(&format!("{crypt}/dm/name"), "cellar");
    let volume = machine.stacked("dm-1", &["dm-0"]);
    machine.put(&format!("{volume}/dm/name"), "cellar-root");
    machine.mount("dm-1", "/", "ext4", "rw");
    machine.swaps.push_str("/swapfile file 100 0 -2\n");
    machine.swaps.push_str("/dev/mapper/cellar-root partition 100 0 -2\n");
    insta::assert_snapshot!(machine.uses(), @"
    sda: system /, system swap, held md0
    sdb: system /, system swap, held md0
    sdc: free
    ");
}

#[test]
fn a_live_system_runs_from_its_stick() {
    // Overlay over squashfs on a loop device whose file lies on the stick.
    let mut machine = Machine::new();
    machine.inner("sda", 1);
    machine.stick("sdb", 1);
    machine.loop_over("loop0", "/run/live/medium/live/system.img");
    machine.mount("", "/", "overlay", "rw,lowerdir=/run/live/rootfs:/run/live/more,upperdir=/run/live/cow/rw");
    machine.mount("sdb1", "/run/live/medium", "iso9660", "ro");
    machine.mount("loop0", "/run/live/rootfs", "squashfs", "ro");
    insta::assert_snapshot!(machine.uses(), @"
    sda: free
    sdb: system /, mounted /run/live/medium, mounted /run/live/rootfs, held loop0 (/run/live/medium/live/system.img)
    loop0: system /, mounted /run/live/rootfs
    ");
}

#[test]
fn btrfs_of_several_drives_and_arrays_that_nobody_mounted_are_in_use() {
    let mut machine = Machine::new();
    machine.inner("sda", 1);
    machine.inner("sdb", 1);
    machine.inner("sdc", 1);
    machine.put("fs/btrfs/1-2-3/devices/sda1/size", "1");
    machine.put("fs/btrfs/1-2-3/devices/sdb1/size", "1");
    machine.numbers.remove("sda1"); // btrfs mounts have a number of no device
    machine.mount("sda1", "/home", "btrfs", "rw");
    machine.stacked("md5", &["sdc1"]);
    insta::assert_snapshot!(machine.uses(), @"
    sda: system /home
    sdb: system /home
    sdc: held md5
    ");
}

#[test]
fn what_is_mounted_from_several_drives_is_not_taken_apart_for_one_of_them() {
    let mut machine = Machine::new();
    machine.stick("sdb", 1);
    machine.stick("sdc", 0);
    machine.stick("sdd", 1);
    machine.put("fs/btrfs/1-2-3/devices/sdb1/size", "1");
    machine.put("fs/btrfs/1-2-3/devices/sdc/size", "1");
    machine.numbers.remove("sdb1");
    // Named as somebody's script did: by no name that the kernel knows.
    machine.mounts.push_str("30 1 0:45 / /media/ann/PHOTOS rw shared:1 - btrfs /dev/photographs rw\n");
    machine.mount("sdd1", "/media/ann/STICK", "vfat", "rw");
    machine.loop_over("loop0", "/media/ann/STICK/backup.img");
    insta::assert_snapshot!(machine.uses(), @"
    sdb: shared /media/ann/PHOTOS
    sdc: shared /media/ann/PHOTOS
    sdd: removable /media/ann/STICK, held loop0 (/media/ann/STICK/backup.img)
    loop0: free
    ");
}

#[test]
fn names_that_are_no_text_and_swap_that_nobody_knows_take_nothing_away() {
    let mut machine = Machine::new();
    machine.inner("sda", 3);
    machine.stick("sdb", 1);
    machine.mount("sda2", "/", "ext4", "rw");
    machine.swaps.push_str("/dev/sda3 partition 100 0 -2\n/dev/vault/sw\\040ap partition 100 0 -3\n");
    let linux = machine.linux();
    let mut mounts = machine.mounts.clone().into_bytes();
    mounts.extend(b"31 1 8:6 / /media/ann/\xFF\xFEstick rw shared:2 - vfat /dev/sdb1 rw\n");
    fs::write(machine.folder.path().join("proc/self/mountinfo"), mounts).unwrap();
    let uses: Vec<_> = linux.drives().unwrap().into_iter().map(|drive| drive.uses).collect();
    let unknown = Use::Unknown { what: "the swap area /dev/vault/sw ap".into() };
    let system = |what: &str| Use::System { what: what.into() };
    assert_eq!(uses[0], [system("/"), system("swap"), unknown.clone()]);
    assert_eq!(uses[1], [Use::Removable { at: "/media/ann/\u{FFFD}\u{FFFD}stick".into() }, unknown]);
    // What makes no sense is an error, and not passed over.
    fs::write(machine.folder.path().join("proc/self/mountinfo"), "30 1 8:2 /\n").unwrap();
    assert_eq!(
        crate::text::chain(&linux.drives().unwrap_err()).rsplit(": ").next(),
        Some("line 1 of the mounts makes no sense")
    );
    fs::remove_file(machine.folder.path().join("proc/swaps")).unwrap();
    fs::create_dir(machine.folder.path().join("proc/swaps")).unwrap();
    assert!(linux.drives().is_err());
}

#[test]
fn what_needs_one_node_of_a_medium_needs_all_of_them_and_a_readers_cards_have_no_sure_tag() {
    let mut machine = Machine::new();
    machine.stick("sdb", 1);
    machine.stick("sdc", 1);
    machine.put("devices/pci0/usb2/2-sdc/serial", "KP16-sdb");
    machine.mount("sdc1", "/srv", "ext4", "rw");
    insta::assert_snapshot!(machine.uses(), @"
    sdb: mounted /srv
    sdc: mounted /srv
    ");
    // Two units of one device are the slots of a reader.
    let mut reader = Machine::new();
    let base = reader.stick("sdb", 0);
    let port = base.split("/host6").next().unwrap().trim_start_matches("devices/").to_owned();
    reader.disk(&format!("{port}/host6/two"), "sdc", 16 << 30, 0);
    let values = [("device/vendor", "Kestrin"), ("device/model", "Pocket"), ("removable", "1")];
    values.iter().for_each(|(name, value)| reader.put(&format!("devices/{port}/host6/two/block/sdc/{name}"), value));
    let drives = reader.drives();
    assert!(drives.iter().all(|drive| drive.tag.is_unsure() && drive.role() == Role::Card), "{drives:?}");
    // A card's own number, where the reader passes it on, tells it from another one in the same slot.
    reader.put(&format!("{base}/device/vpd_pg80"), "\0\u{80}\0\u{8}CARD-712");
    let with_number = reader.drives();
    assert!(with_number[0].tag.is_unsure() && with_number[0].tag != drives[0].tag);
    assert_eq!(with_number[1], drives[1]);
}

#[test]
fn a_member_of_a_pool_is_in_use_while_any_pool_is_imported() {
    let mut machine = Machine::new();
    machine.stick("sdb", 0);
    let mut member = vec![0u8; 256 << 10];
    member[(128 << 10)..(128 << 10) + 4].copy_from_slice(&[0x0C, 0xB1, 0xBA, 0x00]);
    fs::write(machine.folder.path().join("dev/sdb"), member).unwrap();
    insta::assert_snapshot!(machine.uses(), @"sdb: free");
    fs::create_dir_all(machine.folder.path().join("proc/spl/kstat/zfs/cellar")).unwrap();
    insta::assert_snapshot!(machine.uses(), @"sdb: held a ZFS pool (cellar imported)");
}

#[test]
fn a_loop_device_is_in_use_with_whatever_shares_its_bytes() {
    let mut machine = Machine::new();
    machine.inner("sda", 1);
    machine.mount("sda1", "/", "ext4", "");
    // loop0 is mounted; loop1 shows loop0, loop2 the same file, loop3 a part behind, loop4 another file, loop5 the system's partition.
    for (name, file) in [
        ("loop0", "/srv/boot.img"),
        ("loop1", "/dev/loop0"),
        ("loop2", "/srv/boot.img"),
        ("loop3", "/srv/boot.img"),
        ("loop4", "/srv/other.img"),
        ("loop5", "/dev/sda1"),
    ] {
        machine.loop_over(name, file);
    }
    for (name, offset, limit) in [("loop0", 0, 1 << 20), ("loop2", 4096, 0), ("loop3", 1 << 20, 0)] {
        machine.put(&format!("block/{name}/loop/offset"), &offset.to_string());
        machine.put(&format!("block/{name}/loop/sizelimit"), &limit.to_string());
    }
    machine.mount("loop0", "/media/boot", "ext4", "");
    insta::assert_snapshot!(machine.uses(), @r"
    sda: system /, removable /media/boot, held loop0 (/srv/boot.img), held loop1 (/dev/loop0), held loop2 (/srv/boot.img), held loop3 (/srv/boot.img), held loop4 (/srv/other.img), held loop5 (/dev/sda1)
    loop0: removable /media/boot, held loop1 (/dev/loop0), held loop2 (/srv/boot.img), held loop3 (/srv/boot.img), mounted /media/boot, held loop0 (/srv/boot.img)
    loop1: mounted /media/boot, held loop0 (/srv/boot.img), held loop2 (/srv/boot.img), held loop3 (/srv/boot.img)
    loop2: mounted /media/boot, held loop0 (/srv/boot.img), held loop1 (/dev/loop0), held loop3 (/srv/boot.img), removable /media/boot, held loop2 (/srv/boot.img)
    loop3: mounted /media/boot, held loop0 (/srv/boot.img), held loop1 (/dev/loop0), held loop2 (/srv/boot.img), removable /media/boot, held loop3 (/srv/boot.img)
    loop4: free
    loop5: system /
    ");
}

#[test]
fn what_a_driver_of_the_kernel_offers_to_others_is_in_use() {
    let mut machine = Machine::new();
    for name in ["sda", "sdb", "sdc", "sdd"] {
        machine.stick(name, 1);
    }
    machine.loop_over("loop0", "/srv/disk.img");
    let config = "kernel/config";
    machine.put(&format!("{config}/nvmet/subsystems/cellar/namespaces/1/device_path"), "/dev/sda");
    machine.put(&format!("{config}/target/core/iblock_0/attic/udev_path"), "/dev/sdb1");
    machine.put(
        &format!("{config}/target/core/fileio_0/loft/info"),
        "Status: ACTIVATED  Max Queue Depth: 0\n  TCM FILEIO ID: 0        File: /srv/disk.img  Size: 1073741824  Mode: O_DSYNC",
    );
    machine.put(&format!("{config}/usb_gadget/shed/functions/mass_storage.0/lun.0/file"), "/dev/sdc");
    // A file system that needs no device may say that it is mounted from any.
    machine.mount("sdd", "/home/ann/x", "tmpfs", "");
    machine.mounts = machine.mounts.replace(&machine.numbers["sdd"], "0:77");
    let filesystems = machine.folder.path().join("proc/filesystems");
    fs::write(filesystems, "nodev\ttmpfs\n\text4\n").unwrap();
    insta::assert_snapshot!(machine.uses(), @r"
    sda: held the kernel's NVMe target
    sdb: held the kernel's SCSI target
    sdc: held the kernel's USB gadget
    sdd: free
    loop0: held the kernel's SCSI target
    ");
}

#[test]
fn stacks_that_lead_in_circles_end() {
    let mut machine = Machine::new();
    machine.loop_over("loop0", "/mnt/a/one.img");
    machine.loop_over("loop1", "/mnt/b/two.img");
    machine.mount("loop0", "/mnt/b", "ext4", "rw");
    machine.mount("loop1", "/mnt/a", "ext4", "rw");
    machine.mount("", "/", "overlay", "rw,lowerdir=/,upperdir=/mnt/a");
    insta::assert_snapshot!(machine.uses(), @"
    loop0: mounted /mnt/b, mounted /mnt/a, system /, held loop1 (/mnt/b/two.img)
    loop1: mounted /mnt/b, mounted /mnt/a, system /, held loop0 (/mnt/a/one.img)
    ");
}

/// What one device of a made-up machine is.
#[derive(Clone, Debug)]
enum Layer {
    /// Of one or two devices made before, by their place among all.
    Stacked(usize, usize),
    /// A loop over a file on a mount made before.
    Loop(usize),
}

/// Places for mounts, and whether the desktop makes them.
const PLACES: [(&str, bool); 8] = [
    ("/", false),
    ("/home", false),
    ("/boot/efi", false),
    ("/srv/data", false),
    ("/media/ann/STICK", true),
    ("/run/media/ann/OTHER", true),
    ("/run/live/medium", false),
    ("/mnt", false),
];

/// All disks that a device lies on, and those of them that do not only hold a file.
type Disks = [BTreeSet<String>; 2];

proptest! {
    #![proptest_config(ProptestConfig { cases: 2048, failure_persistence: None, ..ProptestConfig::default() })]

    /// On any machine, whatever is stacked on what: no way of naming a drive that is needed, and nothing that is
    /// accepted, gives the proof without which no drive is opened for writing. A drive that nothing needs is free.
    #[test]
    fn no_command_line_opens_a_drive_that_the_machine_needs(
        disks in prop::collection::vec((any::<bool>(), 0u32..3), 1..5),
        early in prop::collection::vec((0usize..64, 0usize..PLACES.len()), 0..3),
        layers in prop::collection::vec(
            prop_oneof![(0usize..64, 0usize..64).prop_map(|(a, b)| Layer::Stacked(a, b)), (0usize..64).prop_map(Layer::Loop)],
            0..5,
        ),
        late in prop::collection::vec((0usize..64, 0usize..PLACES.len()), 0..4),
        swaps in prop::collection::vec(0usize..64, 0..2),
    ) {
        let mut machine = Machine::new();
        // Each device with the disks that it lies on, as the test knows from having made it, and those of them that do
        // not only hold a file.
        let mut devices: Vec<(String, Disks)> = Vec::new();
        let mut needed: BTreeSet<String> = BTreeSet::new();
        for ((is_stick, partitions), letter) in disks.iter().zip("abcdefgh".chars()) {
            let name = format!("sd{letter}");
            if *is_stick { machine.stick(&name, *partitions) } else { machine.inner(&name, *partitions) };
            let parts = (1..=*partitions).map(|number| format!("{name}{number}"));
            devices.extend(parts.chain([name.clone()]).map(|part| (part, [(); 2].map(|()| BTreeSet::from([name.clone()])))));
        }
        let mut mounts: Vec<(&str, bool, Disks)> = Vec::new();
        let mount = |machine: &mut Machine, devices: &[(String, Disks)], mounts: &mut Vec<(&str, bool, Disks)>, (device, place): (usize, usize)| {
            let ((name, below), (at, is_desktop)) = (&devices[device % devices.len()], PLACES[place]);
            if mounts.iter().all(|(taken, ..)| *taken != at) {
                machine.mount(name, at, "ext4", "rw");
                mounts.push((at, is_desktop, below.clone()));
            }
        };
        early.into_iter().for_each(|one| mount(&mut machine, &devices, &mut mounts, one));
        for (number, layer) in layers.into_iter().enumerate() {
            match layer {
                Layer::Stacked(a, b) => {
                    let members: BTreeSet<usize> = [a % devices.len(), b % devices.len()].into();
                    let names: Vec<&str> = members.iter().map(|place| devices[*place].0.as_str()).collect();
                    let below = [0, 1].map(|kind| members.iter().flat_map(|place| devices[*place].1[kind].clone()).collect());
                    let name = format!("{}{number}", if number % 2 == 0 { "md" } else { "dm-" });
                    machine.stacked(&name, &names);
                    let drive_of = |name: &&str| match name {
                        disk if disk.starts_with("sd") => Some(disk[..3].to_owned()),
                        made if made.starts_with("loop") => Some((*made).to_owned()),
                        _ => None,
                    };
                    needed.extend(names.iter().filter_map(drive_of));
                    devices.push((name, below));
                }
                Layer::Loop(over) if !mounts.is_empty() => {
                    let (at, _, [below, _]) = mounts[over % mounts.len()].clone();
                    let name = format!("loop{number}");
                    machine.loop_over(&name, &format!("{}/{number}.img", at.trim_end_matches('/')));
                    needed.extend(below.iter().cloned());
                    let at_once = BTreeSet::from([name.clone()]);
                    devices.push((name, [below.union(&at_once).cloned().collect(), at_once]));
                }
                Layer::Loop(_) => {}
            }
        }
        late.into_iter().for_each(|one| mount(&mut machine, &devices, &mut mounts, one));
        for swap in swaps {
            let (name, [below, _]) = &devices[swap % devices.len()];
            machine.swaps.push_str(&format!("/dev/{name} partition 100 0 -2\n"));
            needed.extend(below.iter().cloned());
        }
        let is_needed = |(_, is_desktop, [_, at_once]): &&(&str, bool, Disks)| !is_desktop || at_once.len() > 1;
        needed.extend(mounts.iter().filter(is_needed).flat_map(|(.., [below, _])| below.iter().cloned()));
        let everything: Vec<_> = RULES.iter().chain(&IMAGE_RULES).map(|rule| rule.id).collect();
        let nothing = Bench { state: None, protected: Vec::new(), places: Vec::new() };
        let now = jiff::Timestamp::now();
        let known = survey(&machine.linux(), &nothing, &Intent::NONE, now).unwrap();
        let plan = ImageNeeds { image: "larkspur.iso".into(), bytes: 1, laid_out_for: None };
        for drive in machine.drives() {
            let name = PathBuf::from(&drive.path).file_name().unwrap().to_str().unwrap().to_owned();
            let is_needed = drive.uses.iter().any(|use_| !matches!(use_, Use::Removable { .. }));
            prop_assert_eq!(is_needed, needed.contains(&name), "{}: {:?}", name, drive.uses);
            for by in [NamedBy::Tag, NamedBy::StableLink, NamedBy::KernelName, NamedBy::Arriving] {
                for partition in [None, Some(1)] {
                    let choice = Choice { drive: drive.clone(), by, partition };
                    let cleared = clear(&choice, &plan, &known, &[], &everything);
                    prop_assert_eq!(cleared.is_ok(), !is_needed && partition.is_none(), "{}", name);
                }
            }
        }
    }
}

/// A byte range of a disk or of a file.
#[derive(Clone, Debug)]
struct Extent {
    of: String,
    range: Range<u64>,
}

/// A device of a simulated machine: the bytes that a write changes, and the bytes on which its content depends.
#[derive(Clone, Debug)]
struct Bytes {
    name: String,
    /// The drive that it belongs to, or its own name.
    drive: String,
    written: Vec<Extent>,
    needed: Vec<Extent>,
}

fn share_bytes(some: &[Extent], others: &[Extent]) -> bool {
    let meet = |a: &Extent, b: &Extent| a.of == b.of && a.range.start < b.range.end && b.range.start < a.range.end;
    some.iter().any(|a| others.iter().any(|b| meet(a, b)))
}

/// Relation between devices, each given by its index among those created before.
#[derive(Clone, Debug)]
enum Relation {
    /// An array of two devices.
    Array(usize, usize),
    /// A loop device over a device. The offset is in quarters of a GiB.
    LoopOverDevice(usize, u64),
    /// A loop device over one of two files on a mount. Offset and length are in quarters of a GiB; length 0 is up to the end.
    LoopOverFile(usize, bool, u64, u64),
    Mount(usize, usize),
    Swap(usize),
    /// A device that a driver of the kernel offers to others.
    Export(usize),
    /// A file on a mount that a driver offers.
    ExportFile(usize, bool),
}

const QUARTER: u64 = 1 << 28;

proptest! {
    #![proptest_config(ProptestConfig { cases: 1024, failure_persistence: None, ..ProptestConfig::default() })]

    /// Relations above, below and beside a drive (docs/platform.md): a drive is free only if it shares no byte with anything in use, and a
    /// drive without relations is free.
    #[test]
    fn no_drive_is_free_that_shares_bytes_with_what_is_used(
        disks in prop::collection::vec(0u32..3, 1..4),
        relations in prop::collection::vec(
            prop_oneof![
                2 => (0usize..64, 0usize..64).prop_map(|(a, b)| Relation::Array(a, b)),
                3 => (0usize..64, 0u64..3).prop_map(|(device, at)| Relation::LoopOverDevice(device, at)),
                4 => (0usize..64, any::<bool>(), 0u64..3, 0u64..3).prop_map(|(mount, file, at, long)| Relation::LoopOverFile(mount, file, at, long)),
                5 => (0usize..64, 0usize..PLACES.len()).prop_map(|(device, place)| Relation::Mount(device, place)),
                1 => (0usize..64).prop_map(Relation::Swap),
                1 => (0usize..64).prop_map(Relation::Export),
                1 => (0usize..64, any::<bool>()).prop_map(|(mount, file)| Relation::ExportFile(mount, file)),
            ],
            0..10,
        ),
    ) {
        let mut machine = Machine::new();
        let mut devices: Vec<Bytes> = Vec::new();
        for (partitions, letter) in disks.iter().zip("abc".chars()) {
            let name = format!("sd{letter}");
            machine.stick(&name, *partitions);
            let bytes = |name: &str, drive: &str, range: Range<u64>| {
                let extents = vec![Extent { of: drive.to_owned(), range }];
                Bytes { name: name.to_owned(), drive: drive.to_owned(), written: extents.clone(), needed: extents }
            };
            devices.push(bytes(&name, &name, 0..16 << 30));
            let each = (16u64 << 30) / u64::from(partitions + 1);
            devices.extend((1..=*partitions).map(|part| {
                bytes(&format!("{name}{part}"), &name, each * u64::from(part)..each * u64::from(part + 1))
            }));
        }
        // Device, mount point, and whether the desktop mounted it.
        let mut mounts: Vec<(usize, &str, bool)> = Vec::new();
        // Bytes in use, and the drive that a job may write anyway.
        let mut uses: Vec<(Option<String>, Vec<Extent>)> = Vec::new();
        let file_on = |mounts: &[(usize, &str, bool)], devices: &[Bytes], mount: usize, second: bool| {
            let (device, at, _) = mounts[mount % mounts.len()];
            (format!("{}/{}.img", at.trim_end_matches('/'), u8::from(second)), devices[device].needed.clone())
        };
        for (number, relation) in relations.into_iter().enumerate() {
            match relation {
                Relation::Array(a, b) => {
                    let members: BTreeSet<usize> = [a % devices.len(), b % devices.len()].into();
                    let names: Vec<&str> = members.iter().map(|place| devices[*place].name.as_str()).collect();
                    let name = format!("md{number}");
                    machine.stacked(&name, &names);
                    let all = |bytes: fn(&Bytes) -> &Vec<Extent>| members.iter().flat_map(|place| bytes(&devices[*place]).clone()).collect::<Vec<_>>();
                    let made = Bytes { drive: name.clone(), name, written: all(|one| &one.written), needed: all(|one| &one.needed) };
                    uses.push((None, made.needed.clone()));
                    devices.push(made);
                }
                Relation::LoopOverDevice(over, at) => {
                    let over = devices[over % devices.len()].clone();
                    let name = format!("loop{number}");
                    machine.loop_over(&name, &format!("/dev/{}", over.name));
                    machine.put(&format!("block/{name}/loop/offset"), &(at * QUARTER).to_string());
                    let shown = |extents: Vec<Extent>| extents.into_iter().map(|Extent { of, range }| {
                        // The layout of an array is unknown: any offset may be on any member.
                        let start = if over.written.len() == 1 { range.start + at * QUARTER } else { range.start };
                        Extent { of, range: start..range.end }
                    }).filter(|extent| !extent.range.is_empty()).collect::<Vec<_>>();
                    let (written, needed) = (shown(over.written.clone()), if over.needed.len() == 1 { shown(over.needed.clone()) } else { over.needed.clone() });
                    uses.push((Some(name.clone()), needed.clone()));
                    devices.push(Bytes { drive: name.clone(), name, written, needed });
                }
                Relation::LoopOverFile(mount, second, at, long) if !mounts.is_empty() => {
                    let (path, holds) = file_on(&mounts, &devices, mount, second);
                    let name = format!("loop{number}");
                    machine.loop_over(&name, &path);
                    machine.put(&format!("block/{name}/loop/offset"), &(at * QUARTER).to_string());
                    machine.put(&format!("block/{name}/loop/sizelimit"), &(long * QUARTER).to_string());
                    let end = if long == 0 { u64::MAX } else { (at + long) * QUARTER };
                    let written = vec![Extent { of: path, range: at * QUARTER..end }];
                    let needed = [written.clone(), holds].concat();
                    uses.push((Some(name.clone()), needed.clone()));
                    devices.push(Bytes { drive: name.clone(), name, written, needed });
                }
                Relation::Mount(device, place) => {
                    let (device, (at, is_desktop)) = (device % devices.len(), PLACES[place]);
                    if mounts.iter().all(|(_, taken, _)| *taken != at) {
                        machine.mount(&devices[device].name, at, "ext4", "rw");
                        mounts.push((device, at, is_desktop));
                        let may_write = is_desktop.then(|| devices[device].drive.clone());
                        uses.push((may_write, devices[device].needed.clone()));
                    }
                }
                Relation::Swap(device) => {
                    let device = &devices[device % devices.len()];
                    machine.swaps.push_str(&format!("/dev/{} partition 100 0 -2\n", device.name));
                    uses.push((None, device.needed.clone()));
                }
                Relation::Export(device) => {
                    let device = &devices[device % devices.len()];
                    let place = format!("kernel/config/nvmet/subsystems/s{number}/namespaces/1/device_path");
                    machine.put(&place, &format!("/dev/{}", device.name));
                    uses.push((None, device.needed.clone()));
                }
                Relation::ExportFile(mount, second) if !mounts.is_empty() => {
                    let (path, holds) = file_on(&mounts, &devices, mount, second);
                    machine.put(&format!("kernel/config/usb_gadget/g{number}/functions/mass_storage.0/lun.0/file"), &path);
                    uses.push((None, [vec![Extent { of: path, range: 0..u64::MAX }], holds].concat()));
                }
                Relation::LoopOverFile(..) | Relation::ExportFile(..) => {}
            }
        }
        for drive in machine.drives() {
            let name = PathBuf::from(&drive.path).file_name().unwrap().to_str().unwrap().to_owned();
            let is_used = drive.uses.iter().any(|use_| !matches!(use_, Use::Removable { .. }));
            let own = devices.iter().find(|device| device.name == name).unwrap();
            let others = || uses.iter().filter(|(may_write, _)| may_write.as_deref() != Some(&name));
            if others().any(|(_, needed)| share_bytes(&own.written, needed)) {
                prop_assert!(is_used, "{} is free: {:?}", name, uses);
            }
            let is_alone = others().all(|(_, needed)| needed.iter().all(|one| own.written.iter().all(|own| own.of != one.of)));
            // A loop device beyond the end of its file has no bytes and may count as used.
            prop_assert!(!(is_alone && is_used) || own.written.is_empty(), "{} is used: {:?}", name, drive.uses);
        }
    }
}

#[test]
fn whoever_opens_a_drive_again_and_again_for_a_moment_does_not_keep_it_open() {
    let looks = std::cell::Cell::new(0);
    let look = || {
        looks.set(looks.get() + 1);
        let mut found = vec!["copies it"];
        found.extend((looks.get() != LOOKS).then_some("lists the drives"));
        found
    };
    assert_eq!(found_each_time(look, || {}), ["copies it"]);
    assert_eq!(looks.get(), LOOKS);
    let nobody = || {
        looks.set(0);
        Vec::<u32>::new()
    };
    assert!(found_each_time(nobody, || unreachable!("nobody is waited for")).is_empty());
}

#[test]
fn only_one_file_may_hold_unsafe_code() {
    let source = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut folders = vec![source];
    let mut found = Vec::new();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() {
                folders.push(entry);
            } else if fs::read_to_string(&entry).unwrap().contains(concat!("allow(", "unsafe_code)")) {
                found.push(entry.file_name().unwrap().to_str().unwrap().to_owned());
            }
        }
    }
    assert_eq!(found, ["calls.rs"]);
}
