//! Drives as values: who they are, what they are for, what is on them, and which one was meant.

mod choice;
mod port;
mod saying;
mod tag;

use crate::text::foreign::quoted;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use choice::{Choice, NamedBy};
pub use port::{NoPort, Port};
pub use saying::{Saying, name_of};
pub use tag::Tag;

/// How a drive is attached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Bus {
    /// USB mass storage.
    Usb,
    /// SATA or IDE.
    Ata,
    /// NVMe.
    Nvme,
    /// SCSI or SAS.
    Scsi,
    /// SD card or eMMC on a host controller.
    Mmc,
    /// Paravirtual disk of a virtual machine.
    Virtio,
    /// Made by software from files or other drives, such as a loop device.
    Virtual,
    /// Anything else.
    Other,
}

impl Bus {
    /// Its name as people write it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Usb => "USB",
            Self::Ata => "SATA",
            Self::Nvme => "NVMe",
            Self::Scsi => "SCSI",
            Self::Mmc => "MMC",
            Self::Virtio => "virtio",
            Self::Virtual => "virtual",
            Self::Other => "unknown bus",
        }
    }
}

/// What a drive is to the technician.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// USB stick.
    Stick,
    /// Memory card in a reader, or the reader's empty slot.
    Card,
    /// Disk on USB.
    External,
    /// Disk inside the PC.
    Internal,
    /// Disk that this system runs from.
    System,
    /// Loop device and the like.
    Virtual,
}

/// What is there where nothing is known: some places of it are looked at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Surface {
    /// It was not looked at.
    #[default]
    Unread,
    /// Nothing: zeros, or what an erased memory reads as.
    Empty,
    /// Something.
    Data,
}

/// A part of a drive, or the whole where it carries a file system without a partition table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Volume {
    /// Length in bytes.
    pub bytes: u64,
    /// File system, such as `fat32`.
    pub filesystem: Option<String>,
    /// Label of the file system.
    pub label: Option<String>,
    /// Where it is mounted.
    pub mounted_at: Option<String>,
    /// How many drives it spans, where it says.
    pub drives: Option<u64>,
    /// What is there, if no file system is known.
    pub surface: Surface,
}

impl Volume {
    /// The larger whole of which this is a member, in words: whoever writes to it harms what other drives hold.
    pub fn group(&self) -> Option<String> {
        let named = |what: &str| match &self.label {
            Some(label) => format!("{what} {}", quoted(label)),
            None => what.to_owned(),
        };
        // The device manager's notes have other words for some of them.
        match self.filesystem.as_deref()? {
            "btrfs" => self.drives.filter(|drives| *drives > 1).map(|drives| {
                let name = named("the btrfs volume");
                format!("{name} of {drives} drives")
            }),
            "md" | "linux_raid_member" if self.drives != Some(1) => Some(named("the array")),
            "lvm2" | "LVM2_member" => Some(named("the LVM group")),
            "jbd" => Some("an ext4 volume with its files elsewhere".to_owned()),
            "bcache" => Some("a bcache set".to_owned()),
            "zfs" | "zfs_member" => Some("a ZFS pool".to_owned()),
            _ => None,
        }
    }
}

/// A partition, by its number in the table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Partition {
    /// Number, counted from 1.
    pub number: u32,
    /// What it holds.
    pub volume: Volume,
}

/// Programs that have a drive open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Openers {
    /// Display names of the programs.
    pub programs: Vec<String>,
    /// False if some running programs could not be inspected, for example those of other accounts without root.
    pub is_complete: bool,
}

/// Why a drive is needed by the running system.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Use {
    /// The running system needs it: its root, boot, home or swap, say.
    System {
        /// In words, such as `/` or `swap`.
        what: String,
    },
    /// A volume that the desktop mounted, which can be unmounted.
    Removable {
        /// Where it is mounted.
        at: String,
    },
    /// A volume that somebody mounted on purpose.
    Mounted {
        /// Where it is mounted.
        at: String,
    },
    /// A part of a volume that the desktop mounted, and that other drives hold parts of as well.
    Shared {
        /// Where it is mounted.
        at: String,
    },
    /// Part of something larger: an array, an encrypted or logical volume, a loop device.
    Held {
        /// By what, in words.
        by: String,
    },
    /// Mounted by a process that sees other mounts than this one, such as a container.
    Taken {
        /// By whom and where, in words.
        by: String,
    },
    /// Nobody can tell what something that the running system needs lies on: it may be this drive.
    Unknown {
        /// What, in words.
        what: String,
    },
}

/// How a drive is attached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// Through what.
    pub bus: Bus,
    /// The slot of a card reader, by its number: what the drive says of itself then tells of the reader, not of the card.
    pub slot: Option<u32>,
    /// How fast, in megabits a second.
    pub mbps: Option<u32>,
    /// Whether it can do more than the port or hub that it is plugged into.
    pub could_be_faster: bool,
    /// Where it is plugged in, if that is USB.
    pub port: Option<Port>,
}

/// What is on a drive.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holds {
    /// Partitions, in order.
    pub partitions: Vec<Partition>,
    /// File system on the drive as a whole, without or around a partition table.
    pub whole: Option<Volume>,
    /// What is on it, where there is neither a partition nor a file system.
    pub surface: Surface,
}

/// A whole drive, as the system describes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drive {
    /// Who it is.
    pub tag: Tag,
    /// Where the system has it now.
    pub path: String,
    /// Paths that stay the same while it is in the same port or on the same PC.
    pub links: Vec<String>,
    /// Who it says it is.
    pub says: Saying,
    /// Size in bytes; zero when there is no medium.
    pub bytes: u64,
    /// Smallest unit that can be written, in bytes.
    pub sector_bytes: u32,
    /// How it is attached.
    pub link: Link,
    /// Whether it refuses to be written.
    pub write_protected: bool,
    /// Number that grows each time a medium appears here, so that a swap shows.
    pub generation: Option<u64>,
    /// How long it has been attached, in seconds, where the system tells.
    pub attached_seconds: Option<u64>,
    /// What is on it.
    pub holds: Holds,
    /// What the running system needs it for.
    pub uses: Vec<Use>,
}

/// Words in a model's name that tell a card reader.
const READER_WORDS: [&str; 7] = ["card", "reader", "sd/mmc", "sdxc", "microsd", "compact flash", "crw"];

/// Whether a drive on USB with this model's name is a card reader.
pub fn is_reader(model: Option<&str>) -> bool {
    let model = model.unwrap_or_default().to_lowercase();
    READER_WORDS.iter().any(|word| model.contains(word))
}

/// What the system needs one node of a medium for, it needs all of them for: a drive that is attached by two ways.
pub(crate) fn share_uses(drives: &mut [Drive]) {
    let all: Vec<(Tag, Vec<Use>)> = drives.iter().map(|drive| (drive.tag.clone(), drive.uses.clone())).collect();
    for drive in drives.iter_mut().filter(|drive| !drive.tag.is_unsure() && drive.bytes > 0) {
        let same = all.iter().filter(|(tag, _)| *tag == drive.tag).flat_map(|(_, uses)| uses);
        for use_ in same {
            if !drive.uses.contains(use_) {
                drive.uses.push(use_.clone());
            }
        }
    }
}

/// More than this is far larger than a stick, in bytes: sticks of 256 GB are ordinary, disks begin at 320 GB.
pub const STICK_BYTES_MOST: u64 = 300_000_000_000;

impl Drive {
    /// What the drive is to the technician.
    pub fn role(&self) -> Role {
        if self.uses.iter().any(|use_| matches!(use_, Use::System { .. })) {
            return Role::System;
        }
        match self.link.bus {
            Bus::Virtual => Role::Virtual,
            Bus::Mmc if self.says.removable => Role::Card,
            Bus::Usb if self.says.removable && (self.bytes == 0 || self.link.slot.is_some()) => Role::Card,
            Bus::Usb if self.says.removable && self.bytes <= STICK_BYTES_MOST => Role::Stick,
            Bus::Usb => Role::External,
            _ => Role::Internal,
        }
    }

    /// Vendor and model in one line, or what there is of them.
    pub fn name(&self) -> String {
        name_of(self.says.vendor.as_deref(), self.says.model.as_deref())
    }

    /// Everything on it that carries a file system, the whole first.
    pub fn volumes(&self) -> impl Iterator<Item = &Volume> {
        self.holds.whole.iter().chain(self.holds.partitions.iter().map(|partition| &partition.volume))
    }

    /// Whether `other` is this drive with the same medium still in the same place.
    pub fn is_still(&self, other: &Self) -> bool {
        self.path == other.path
            && self.tag == other.tag
            && self.bytes == other.bytes
            && self.generation == other.generation
    }
}

#[cfg(test)]
impl Drive {
    /// A stick with this tag, of which there is nothing to say.
    pub(crate) fn sample(tag: &str) -> Self {
        Self {
            tag: tag.parse().unwrap(),
            path: "/dev/sdb".to_owned(),
            links: Vec::new(),
            says: Saying {
                vendor: Some("Kestrin".to_owned()),
                model: Some("Pocket".to_owned()),
                serial: Some(format!("of {tag}")),
                removable: true,
            },
            bytes: 16_008_609_792,
            sector_bytes: 512,
            link: Link { bus: Bus::Usb, slot: None, mbps: None, could_be_faster: false, port: None },
            write_protected: false,
            generation: None,
            attached_seconds: None,
            holds: Holds { partitions: Vec::new(), whole: None, surface: Surface::Empty },
            uses: Vec::new(),
        }
    }
}
