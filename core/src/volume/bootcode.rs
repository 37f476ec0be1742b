//! Boot code of a BIOS: is there any in a first sector, and does it start something of its own or what another sector holds?
//!
//! Sources: UEFI 2.10, §5.2.1 (440 bytes of code, the table behind them) and §5.3.3 (attribute bit 2: legacy BIOS bootable); Microsoft
//! FAT specification, §3.1 (the jump, and where code begins). What code does is told by the addresses and names that it holds.
//! Promise: any bytes give an answer, never a panic.

/// Where the code of a master boot record ends, and where that of a volume's first sector does.
const RECORD_CODE_END: usize = 440;
pub(crate) const VOLUME_CODE_END: usize = 510;
pub(crate) const SECTOR: usize = 512;
/// The signature of Apple's driver descriptor, and how much of it images carry that have no code (Inside Macintosh: Devices, chapter 3).
const APPLE_DRIVERS: &[u8] = b"ER";
const APPLE_DRIVERS_BYTES: usize = 8;
/// No code that loads a system is as short as this, in bytes other than zero.
const CODE_LEAST: usize = 16;
/// `mov si` and `mov bp` with the place of the partition table, in the first sector as it was loaded and as such code moves it.
const TABLE_ADDRESSES: [&[u8]; 3] = [b"\xBE\xBE\x07", b"\xBD\xBE\x07", b"\xBE\xBE\x7D"];
/// What code says that starts the partition which is marked.
const PASSES_ON: [&[u8]; 4] =
    [b"issing operating system", b"issing os", b"nvalid partition table", b"rror loading operating system"];
/// What code says that starts nothing.
const STARTS_NOTHING: [&[u8]; 3] = [b"not a bootable", b"not bootable", b"non-bootable"];
/// What a first sector's code does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BootCode {
    /// There is none, or it only says so.
    #[default]
    Absent,
    /// It starts the first sector of the partition that is marked for it.
    PassesOn,
    /// It starts something of its own.
    Loader,
}

pub(crate) fn holds(code: &[u8], any: &[&[u8]]) -> bool {
    any.iter().any(|part| memchr::memmem::find(code, part).is_some())
}

pub(crate) fn of(code: &[u8]) -> BootCode {
    let lower = code.to_ascii_lowercase();
    if code.iter().filter(|byte| **byte != 0).count() < CODE_LEAST || holds(&lower, &STARTS_NOTHING) {
        BootCode::Absent
    } else if holds(code, &TABLE_ADDRESSES) || holds(&lower, &PASSES_ON) {
        BootCode::PassesOn
    } else {
        BootCode::Loader
    }
}

impl BootCode {
    /// Of a master boot record.
    pub fn of_record(record: &[u8]) -> Self {
        let code = record.get(..RECORD_CODE_END).unwrap_or_default();
        // Hybrid images have code that begins with these bytes; others have nothing else.
        let is_apple = code.starts_with(APPLE_DRIVERS);
        of(code.get(if is_apple { APPLE_DRIVERS_BYTES } else { 0 }..).unwrap_or_default())
    }
}
