//! Numbers that tell one table or volume from all others.

use data_encoding::HEXLOWER;

/// A number like a random UUID (RFC 9562, section 5.4), which is the same for the same serial number and use.
pub(super) fn uuid(serial: u32, of: &str) -> [u8; 16] {
    let digest = blake3::hash(&[&serial.to_le_bytes(), of.as_bytes()].concat());
    let mut uuid: [u8; 16] = digest.as_bytes().first_chunk().copied().unwrap_or_default();
    uuid[6] = uuid[6] & 0x0F | 0x40;
    uuid[8] = uuid[8] & 0x3F | 0x80;
    uuid
}

/// As people write it.
pub(super) fn text(uuid: [u8; 16]) -> String {
    let hex = HEXLOWER.encode(&uuid);
    let groups = [0..8, 8..12, 12..16, 16..20, 20..32].map(|group| hex.get(group).unwrap_or_default().to_owned());
    groups.join("-")
}

/// As it lies in a GUID partition table: the first three groups with their low bytes first (UEFI 2.10, appendix A).
pub(super) fn on_disk(uuid: [u8; 16]) -> [u8; 16] {
    let mut guid = uuid;
    for group in [0..4, 4..6, 6..8] {
        guid.get_mut(group).unwrap_or_default().reverse();
    }
    guid
}
