//! One disk, as sysfs describes it.
//!
//! Source: the kernel's Documentation/ABI/stable/sysfs-block and Documentation/ABI/testing/sysfs-bus-usb.

use std::fs;
use std::path::{Path, PathBuf};

use crate::drive::{Bus, Link, Saying};

/// sysfs counts sizes and places in units of this many bytes, whatever the drive's sector.
const UNIT: u64 = 512;
/// How far up the tree of devices a USB port may be.
const PARENTS_MOST: usize = 16;

/// Names of block devices that are no drives: memory, stacks of other drives, optical and floppy drives.
const NO_DRIVES: [&str; 6] = ["ram", "zram", "dm-", "md", "sr", "fd"];
/// Names of block devices that software makes from files or the network.
const MADE_BY_SOFTWARE: [&str; 3] = ["loop", "nbd", "rbd"];

/// A partition, as the kernel has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct KnownPartition {
    pub name: String,
    pub number: u32,
    /// `major:minor`.
    pub device: String,
    /// First byte on the disk.
    pub start: u64,
    pub bytes: u64,
}

/// A whole disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Disk {
    pub name: String,
    /// `major:minor`.
    pub device: String,
    pub says: Saying,
    pub bytes: u64,
    pub sector_bytes: u32,
    /// Its slot is not known yet.
    pub link: Link,
    pub write_protected: bool,
    pub generation: Option<u64>,
    pub partitions: Vec<KnownPartition>,
    /// How long it has been attached, in seconds.
    pub attached_seconds: Option<u64>,
    pub unit: Unit,
}

/// What a disk is within the device that it belongs to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Unit {
    /// The USB device, if it is one.
    pub usb: Option<PathBuf>,
    /// Its number there.
    pub number: u32,
    /// Its serial number there.
    pub serial: Option<String>,
}

/// The text of an attribute, without its padding; `None` if it is missing or blank.
pub(super) fn text(path: &Path) -> Option<String> {
    let raw = fs::read(path).ok()?;
    let text = String::from_utf8_lossy(&raw).replace('\0', " ");
    // Names go to terminals, so that control characters must not.
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let text: String = text.chars().filter(|c| !c.is_control()).collect();
    (!text.is_empty()).then_some(text)
}

fn number(path: &Path) -> Option<u64> {
    text(path)?.parse().ok()
}

/// A size or place in bytes.
fn bytes(path: &Path) -> Option<u64> {
    number(path)?.checked_mul(UNIT)
}

impl Disk {
    /// Reads the disk called `name`; `None` if it is no drive, or gone again.
    pub(super) fn read(sys: &Path, name: &str) -> Option<Self> {
        if NO_DRIVES.iter().any(|prefix| name.starts_with(prefix)) {
            return None;
        }
        let folder = sys.join("block").join(name).canonicalize().ok()?;
        let by_software = MADE_BY_SOFTWARE.iter().any(|prefix| name.starts_with(prefix));
        let bytes = bytes(&folder.join("size"))?;
        if by_software && bytes == 0 {
            return None;
        }
        let usb = usb_device(&folder);
        let bus = if by_software { Bus::Virtual } else { bus(name, &folder, usb.as_deref()) };
        let speed = usb.as_ref().and_then(|usb| text(&usb.join("speed"))?.parse::<f64>().ok());
        let link_mbps = speed.map(|mbps| mbps as u32);
        let (vendor, model, serial) = names(&folder, usb.as_deref(), bus);
        let removable = number(&folder.join("removable")) == Some(1) || (bus == Bus::Mmc && is_card(&folder));
        // The kernel names a USB device's folder by its port (Documentation/ABI/testing/sysfs-bus-usb).
        let port = usb.as_deref().and_then(Path::file_name).and_then(|name| name.to_str()?.parse().ok());
        let could_be_faster = link_mbps.is_some_and(|mbps| mbps <= USB_2_MBPS) && usb.as_deref().is_some_and(is_usb_3);
        Some(Self {
            device: text(&folder.join("dev"))?,
            says: Saying { vendor, model, serial, removable },
            bytes,
            sector_bytes: number(&folder.join("queue/logical_block_size")).and_then(|n| u32::try_from(n).ok())?,
            link: Link { bus, slot: None, mbps: link_mbps, could_be_faster, port },
            attached_seconds: usb.as_deref().and_then(connected_seconds),
            unit: Unit { number: unit(&folder), serial: unit_serial(&folder.join("device")), usb },
            write_protected: number(&folder.join("ro")) == Some(1),
            generation: number(&folder.join("diskseq")),
            partitions: partitions(&folder),
            name: name.to_owned(),
        })
    }
}

/// How long a USB device has been attached: `power/connected_duration`, milliseconds (Documentation/ABI/testing/sysfs-bus-usb).
fn connected_seconds(usb: &Path) -> Option<u64> {
    number(&usb.join("power/connected_duration"))?.checked_div(1000)
}

/// The number of a SCSI unit, the last of the four in `6:0:0:1`.
fn unit(folder: &Path) -> u32 {
    let device = folder.join("device").canonicalize().ok();
    let name = device.as_deref().and_then(Path::file_name).and_then(|name| name.to_str());
    name.and_then(|name| name.rsplit(':').next()?.parse().ok()).unwrap_or_default()
}

/// The fastest that USB 2 goes, in megabits a second.
const USB_2_MBPS: u32 = 480;

/// A device made for USB 3 says that it follows USB 2.1 or later wherever it is plugged in (USB 3.2, §9.6.1, bcdUSB).
fn is_usb_3(usb: &Path) -> bool {
    text(&usb.join("version")).and_then(|version| version.parse::<f64>().ok()).is_some_and(|version| version >= 2.1)
}

/// eMMC is soldered in, SD cards are not; both are on the same bus.
fn is_card(folder: &Path) -> bool {
    text(&folder.join("device/type")).is_some_and(|kind| kind == "SD")
}

fn partitions(folder: &Path) -> Vec<KnownPartition> {
    let Ok(entries) = fs::read_dir(folder) else { return Vec::new() };
    let read = |path: PathBuf| {
        Some(KnownPartition {
            name: path.file_name()?.to_str()?.to_owned(),
            number: u32::try_from(number(&path.join("partition"))?).ok()?,
            device: text(&path.join("dev"))?,
            start: bytes(&path.join("start"))?,
            bytes: bytes(&path.join("size"))?,
        })
    };
    // The kernel calls partitions by their disk's name: nothing else below it need be asked.
    let disk = folder.file_name().unwrap_or_default().as_encoded_bytes();
    let parts = entries.flatten().filter(|entry| entry.file_name().as_encoded_bytes().starts_with(disk));
    let mut found: Vec<_> = parts.filter_map(|entry| read(entry.path())).collect();
    found.sort_by_key(|partition| partition.number);
    found
}

/// The USB device above a disk: the nearest folder with the numbers of its descriptor.
fn usb_device(folder: &Path) -> Option<PathBuf> {
    let above = folder.ancestors().take(PARENTS_MOST);
    above.into_iter().find(|path| path.join("idVendor").is_file()).map(Path::to_owned)
}

fn bus(name: &str, folder: &Path, usb: Option<&Path>) -> Bus {
    let path = folder.to_string_lossy();
    if usb.is_some() {
        Bus::Usb
    } else if name.starts_with("nvme") {
        Bus::Nvme
    } else if name.starts_with("mmcblk") {
        Bus::Mmc
    } else if name.starts_with("vd") {
        Bus::Virtio
    } else if path.contains("/ata") {
        Bus::Ata
    } else if name.starts_with("sd") {
        Bus::Scsi
    } else {
        Bus::Other
    }
}

type Names = (Option<String>, Option<String>, Option<String>);

/// Vendor, model and serial number, from wherever this kind of drive keeps them.
fn names(folder: &Path, usb: Option<&Path>, bus: Bus) -> Names {
    let device = folder.join("device");
    let from = |base: &Path, name: &str| text(&base.join(name));
    match bus {
        Bus::Usb => (
            from(&device, "vendor").or_else(|| from(usb?, "manufacturer")),
            from(&device, "model").or_else(|| from(usb?, "product")),
            usb.and_then(|usb| from(usb, "serial")).or_else(|| unit_serial(&device)),
        ),
        Bus::Nvme => (None, from(&device, "model"), from(&device, "serial")),
        Bus::Mmc => (from(&device, "manfid"), from(&device, "name"), from(&device, "serial")),
        Bus::Virtio => (None, Some("virtual disk".to_owned()), from(folder, "serial")),
        // What backs it names it: the same file is the same drive on any loop device.
        Bus::Virtual => (None, Some("loop device".to_owned()), from(folder, "loop/backing_file")),
        Bus::Ata => (None, from(&device, "model"), unit_serial(&device)),
        Bus::Scsi | Bus::Other => (from(&device, "vendor"), from(&device, "model"), unit_serial(&device)),
    }
}

/// The unit serial number page of a SCSI or ATA disk (SPC-4, §7.8.18): four bytes of header, then text.
fn unit_serial(device: &Path) -> Option<String> {
    let raw = fs::read(device.join("vpd_pg80")).ok()?;
    let serial = String::from_utf8_lossy(raw.get(4..)?).replace(['\0'], " ");
    let serial: String = serial.trim().chars().filter(|c| !c.is_control()).collect();
    (!serial.is_empty()).then_some(serial)
}
