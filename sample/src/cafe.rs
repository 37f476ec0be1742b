//! The Harbour Street Repair Café: its images, its drives, all made up.

use crate::{Esp, File, Recipe, Tables};

/// An image of the café, with the file name under which it is handed out.
pub struct Image {
    /// File name, such as `larkspur-9.2-desktop-x86_64.iso`.
    pub file: &'static str,
    /// What it is made from.
    pub recipe: Recipe,
}

impl Image {
    /// The image as it is handed out; that of the 32-bit edition carries a sum of itself.
    pub fn build(&self) -> Vec<u8> {
        let mut bytes = self.recipe.build();
        if self.file == COMPACT {
            crate::embed_sum(&mut bytes);
        }
        bytes
    }
}

const COMPACT: &str = "larkspur-9.2-compact-i686.iso";

/// Larkspur Linux 9.2 Desktop: GPT, El Torito, and the ESP behind the end of the ISO 9660 volume.
pub fn desktop() -> Image {
    let recipe = Recipe {
        name: "Larkspur Linux 9.2 Desktop".into(),
        label: "LARKSPUR_92_DESKTOP".into(),
        tables: Tables::Gpt,
        esp: Esp::Behind,
        el_torito: true,
        files: vec![
            File::text(".disk/info", "Larkspur Linux 9.2 Desktop (64-bit), long-term release\n"),
            File::filler("live/kernel.bin", 1_300_000, 11),
            File::filler("live/start.cpio", 2_100_000, 12),
            File::filler("live/system.img", 14_000_000, 13),
        ],
    };
    Image { file: "larkspur-9.2-desktop-x86_64.iso", recipe }
}

/// Larkspur Linux 9.2 Compact: for old 32-bit PCs, which start by BIOS alone.
pub fn compact() -> Image {
    let recipe = Recipe {
        name: "Larkspur Linux 9.2 Compact".into(),
        label: "LARKSPUR_92_COMPACT".into(),
        tables: Tables::Mbr,
        esp: Esp::None,
        el_torito: true,
        files: vec![
            File::text(".disk/info", "Larkspur Linux 9.2 Compact (32-bit), long-term release\n"),
            File::filler("live/system.img", 6_000_000, 21),
        ],
    };
    Image { file: COMPACT, recipe }
}

/// Wrenfield Rescue 3: MBR partitions, and the ESP as a file inside the volume.
pub fn rescue() -> Image {
    let recipe = Recipe {
        name: "Wrenfield Rescue 3".into(),
        label: "WRENFIELD_RESCUE_3".into(),
        tables: Tables::Mbr,
        esp: Esp::Inside,
        el_torito: true,
        files: with_list(vec![
            File::filler("rescue/tools.img", 3_000_000, 31),
            File::text("rescue/manual.txt", "Start with the memory, then look at the disk.\n"),
        ]),
    };
    Image { file: "wrenfield-rescue-3.iso", recipe }
}

/// The files, and a list of their MD5 sums as some families put it into their images.
fn with_list(mut files: Vec<File>) -> Vec<File> {
    use md5::Digest as _;
    let line = |file: &File| {
        let hex: String = md5::Md5::digest(&file.bytes).iter().map(|byte| format!("{byte:02x}")).collect();
        format!("{hex}  ./{}\n", file.path)
    };
    let list: String = files.iter().map(line).collect();
    files.push(File::text("md5sum.txt", &list));
    files
}

/// The descriptor of a tray with one stick that has less room than it claims.
pub const STALL_TRAY: &str = r#"# A stick from a market stall: it says 64 GB, and has an eighth of that.

[[drive]]
name = "trelo"
vendor = "Trelo"
model = "Turbo"
serial = "TT64-000019"
bytes = 64_023_257_088
bus = "usb"
link_mbps = 5000
removable = true

[[drive.fault]]
kind = "wrap"
true_bytes = 7_948_206_080
"#;

/// Three sticks for a class, which are plugged in once the program runs; the first one holds somebody's files, and the last one waits for a port.
pub fn class_tray() -> String {
    let holds =
        "[[drive.partition]]\nnumber = 1\nbytes = 8_003_256_320\nfilesystem = \"fat32\"\nlabel = \"HOMEWORK\"\n";
    let stick = |number: u32, port: u32, more: &str| {
        format!(
            "[[drive]]\nname = \"class-{number}\"\nvendor = \"Brell\"\nmodel = \"Slim\"\nserial = \"BS8-00073{number}\"\n\
             bytes = 8_004_304_896\nbus = \"usb\"\nlink_mbps = 480\nremovable = true\nport = \"1-2.{port}\"\nappears_after_ms = 300\n{more}\n"
        )
    };
    [stick(1, 1, holds), stick(2, 2, ""), stick(3, 2, "queues = true\n")].concat()
}

/// The plan for them.
pub const CLASS_PLAN: &str = r#"# Two sticks of the compact edition for the class, one at a time.
image = "images/larkspur-9.2-compact-i686.iso"
sticks = 2
at-once = 1

[files]
rule = "refuse"
"#;

/// The descriptor of the café's tray.
pub const TRAY: &str = r#"# The bench of the Harbour Street Repair Café: simulated drives.

[[drive]]
name = "kestrin-a"
vendor = "Kestrin"
model = "Pocket"
serial = "KP16-004417"
bytes = 16_008_609_792
bus = "usb"
link_mbps = 5000
removable = true

[[drive.partition]]
number = 1
bytes = 16_007_561_216
filesystem = "fat32"
label = "HOLIDAY"
mounted_at = "/media/bench/HOLIDAY"

[[drive]]
name = "kestrin-b"
vendor = "Kestrin"
model = "Pocket"
serial = "KP16-004982"
bytes = 16_008_609_792
bus = "usb"
link_mbps = 480
removable = true

[[drive]]
name = "kestrin-old"
vendor = "Kestrin"
model = "Pocket"
serial = "KP2-000093"
bytes = 2_004_877_312
bus = "usb"
link_mbps = 480
removable = true

[[drive]]
name = "odalen"
vendor = "Odalen"
model = "Vault"
serial = "OV1T-77120"
bytes = 1_000_204_886_016
bus = "usb"
link_mbps = 5000
removable = false

[[drive.partition]]
number = 1
bytes = 1_000_203_837_440
filesystem = "ext4"
label = "cafe-backups"

[[drive]]
name = "brell"
vendor = "Brell"
model = "SD Card Reader"
serial = "BR-20260117"
bytes = 0
bus = "usb"
link_mbps = 480
removable = true

[[drive]]
name = "marrow"
vendor = "Marrow"
model = "NV2"
serial = "MNV2-51200831"
bytes = 512_110_190_592
bus = "nvme"
removable = false

[[drive.partition]]
number = 1
bytes = 536_870_912
filesystem = "fat32"
mounted_at = "/boot/efi"

[[drive.partition]]
number = 2
bytes = 511_571_222_528
filesystem = "ext4"
label = "bench"
mounted_at = "/"
"#;

/// The café's catalogue: its images on a server at `base`, whose first mirror breaks off once in a while. `key` is the
/// key file of whoever signs the list beside them.
pub fn catalogue(base: &str, key: &str) -> String {
    let key = key.lines().nth(1).unwrap_or_default();
    let (desktop, compact, rescue) = (desktop().file, compact().file, rescue().file);
    format!(
        r#"# The catalogue of the Harbour Street Repair Café.
catalogue = 1
name = "Harbour Street Repair Café"

[[system]]
name = "Larkspur Linux"
keys = ["{key}"]

[system.settings]
label = "LARK-MEMORY"
filesystem = "ext4"
file = "memory.txt"
text = "everything\n"

[[system.release]]
version = "9.2"
supported_until = 2036-04-30
long_term = true

[[system.image]]
version = "9.2"
edition = "Desktop"
architecture = "x86-64"
addresses = ["{base}/breaks-7000000/{desktop}", "{base}/steady/{desktop}"]

[[system.image]]
version = "9.2"
edition = "Compact"
architecture = "x86"
addresses = ["{base}/steady/{compact}"]

[[system]]
name = "Wrenfield Rescue"
keys = ["{key}"]

[[system.image]]
version = "3"
architecture = "x86-64"
addresses = ["{base}/steady/{rescue}"]
"#
    )
}
