//! Makes small hybrid images that start a PC for real, and the café's bench to try them on.
//!
//! A sample is laid out as the large ones are: an ISO 9660 volume whose unused first 32 KiB hold
//! boot code and partition tables, with an EFI system partition inside or behind the volume.
//! Nothing here shares code with the readers in `pyrotyp-core`: each checks the other.

mod boot;
pub mod cafe;
mod esp;
mod iso;
pub mod mirror;
mod published;
mod tables;

pub use boot::efi_program;
pub use published::{Signed, TorrentKind, embed_sum, sign, torrent};

/// One sector of the partition tables, in bytes.
const SECTOR: usize = 512;
/// One block of the ISO 9660 volume, in bytes.
const BLOCK: usize = 2048;

/// Which partition tables the image carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tables {
    /// None: an image for optical discs alone.
    None,
    /// MBR partitions, with boot code in the first sector.
    Mbr,
    /// A protective MBR with boot code, and a GPT with its backup at the end.
    Gpt,
}

/// Where the EFI system partition lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Esp {
    /// There is none: the image starts BIOS PCs only.
    None,
    /// A file of the ISO 9660 volume, which a partition entry points at.
    Inside,
    /// Behind the declared end of the ISO 9660 volume.
    Behind,
}

/// A file of the sample's ISO 9660 volume.
#[derive(Clone, Debug)]
pub struct File {
    /// Path in the volume, such as `live/system.img`.
    pub path: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

impl File {
    /// A file of readable text.
    pub fn text(path: &str, text: &str) -> Self {
        Self { path: path.to_owned(), bytes: text.as_bytes().to_vec() }
    }

    /// A file of `bytes` bytes that compress badly and repeat nowhere, the same on every run.
    pub fn filler(path: &str, bytes: usize, seed: u64) -> Self {
        Self { path: path.to_owned(), bytes: noise(bytes, seed) }
    }
}

/// What an image is made from.
#[derive(Clone, Debug)]
pub struct Recipe {
    /// Name shown on the screen when a PC starts from it, such as `Larkspur Linux 9.2 Desktop`.
    pub name: String,
    /// ISO 9660 volume identifier, at most 32 characters.
    pub label: String,
    /// Partition tables.
    pub tables: Tables,
    /// EFI system partition.
    pub esp: Esp,
    /// Whether the volume carries an El Torito boot catalogue.
    pub el_torito: bool,
    /// Files of the volume.
    pub files: Vec<File>,
}

impl Recipe {
    /// The image, byte for byte the same on every run.
    ///
    /// # Panics
    /// When the recipe itself is wrong: a label over 32 characters, or too many files in one folder.
    pub fn build(&self) -> Vec<u8> {
        let esp = (self.esp != Esp::None).then(|| esp::build(&self.name));
        let mut plan = iso::Plan::new(&self.label, &self.files);
        if self.el_torito {
            plan.boot_image(boot::sector(&self.name));
        }
        let esp_block = match (&esp, self.esp) {
            (Some(bytes), Esp::Inside) => Some(plan.place("boot/efi.img", bytes.clone())),
            (Some(_), _) => Some(plan.end_block()),
            (None, _) => None,
        };
        if let (Some(block), Some(bytes)) = (esp_block, &esp) {
            plan.efi_boot_entry(block, bytes.len());
        }
        let mut image = plan.build();
        let volume_end = image.len();
        if let (Esp::Behind, Some(bytes)) = (self.esp, &esp) {
            image.extend_from_slice(bytes);
        }
        let esp_range = esp_block.zip(esp).map(|(block, bytes)| {
            let start = block as usize * BLOCK;
            start..start + bytes.len()
        });
        match self.tables {
            Tables::None => {}
            Tables::Mbr => tables::mbr(&mut image, &boot::sector(&self.name), Some(volume_end), esp_range),
            Tables::Gpt => tables::gpt(&mut image, &boot::sector(&self.name), volume_end, esp_range),
        }
        image
    }
}

/// A plain disk image without an ISO 9660 volume: an MBR with boot code and one EFI system partition.
pub fn disk_image(name: &str) -> Vec<u8> {
    let esp = esp::build(name);
    let start = 2048 * SECTOR;
    let mut image = vec![0; start];
    image.extend_from_slice(&esp);
    tables::mbr(&mut image, &boot::sector(name), None, Some(start..start + esp.len()));
    image
}

/// `bytes` bytes of noise that `seed` alone decides (SplitMix64).
pub fn noise(bytes: usize, seed: u64) -> Vec<u8> {
    let mut state = seed;
    let mut out = Vec::with_capacity(bytes + 8);
    while out.len() < bytes {
        state = state.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut word = state;
        word = (word ^ (word >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        word = (word ^ (word >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        out.extend_from_slice(&(word ^ (word >> 31)).to_le_bytes());
    }
    out.truncate(bytes);
    out
}
