//! Where the standard puts what: descriptors, and records of folders.
//!
//! Source: ECMA-119, 2nd edition; El Torito 1.0; Joliet specification (1995), §"Escape sequences". Byte positions (BP) count from 1.

/// Size of a descriptor, in bytes (§6.1.2).
pub const SECTOR: usize = 2048;
/// The first descriptor's sector (§6.2.1: the system area takes sectors 0 to 15).
pub(super) const FIRST_DESCRIPTOR: u64 = 16;
/// Most descriptors looked at before giving up on a terminator.
pub(super) const DESCRIPTORS_MOST: u64 = 32;

//                                            BP         §        type
pub(super) const STANDARD_ID: [u8; 5] = *b"CD001"; //     2–6       8.1.2
pub(super) const VOLUME_ID: usize = 40; //               41–72      8.4.7    d-characters
pub(super) const VOLUME_SPACE_SIZE: usize = 80; //       81–88      8.4.8    u32 little, then big; blocks
pub(super) const LOGICAL_BLOCK_SIZE: usize = 128; //    129–132     8.4.12   u16 little, then big; bytes
pub(super) const ROOT_RECORD: usize = 156; //           157–190     8.4.18   directory record
pub(super) const CREATED: usize = 813; //               814–830     8.4.26   digits

pub(super) const ESCAPE: usize = 88; //                  89–120     8.5.6    of a supplementary descriptor
pub(super) const JOLIET: [&[u8]; 3] = [b"%/@", b"%/C", b"%/E"];

//   of a directory record:                   BP         §        type
pub(super) const EXTENT: usize = 2; //                    3–10      9.1.3    u32 little, then big; blocks
pub(super) const DATA_LENGTH: usize = 10; //             11–18      9.1.4    u32 little, then big; bytes
pub(super) const RECORDED: usize = 18; //                19–25    9.1.5    years from 1900, month, day, hour, minute, second
pub(super) const FLAGS: usize = 25; //                   26         9.1.6    bits
pub(super) const NAME_LENGTH: usize = 32; //             33         9.1.10   u8
pub(super) const NAME: usize = 33; //                    34–        9.1.11   d-characters
pub(super) const FLAG_FOLDER: u8 = 2;
pub(super) const FLAG_GOES_ON: u8 = 0x80; // the file has another record behind this one

/// Boot system identifier of an El Torito record (El Torito 1.0, figure 7, offset 7).
pub(super) const EL_TORITO: &[u8] = b"EL TORITO SPECIFICATION";
/// Where that record names the catalogue's sector (figure 7, offset 71).
pub(super) const CATALOGUE: usize = 71;
