//! The boot code of the samples: what a PC runs when it starts from one.

use crate::SECTOR;

/// Boot code for a BIOS, 440 bytes at most, which prints one line on the screen and the first serial port.
///
/// It serves as the MBR's code and as the El Torito boot image: a BIOS loads both to 0x7C00.
pub fn sector(name: &str) -> Vec<u8> {
    #[rustfmt::skip]
    let mut code: Vec<u8> = vec![
        0x31, 0xC0,             //       xor ax, ax
        0x8E, 0xD8,             //       mov ds, ax
        0x8E, 0xD0,             //       mov ss, ax
        0xBC, 0x00, 0x7C,       //       mov sp, 0x7C00
        0xFC,                   //       cld
        0x31, 0xD2,             //       xor dx, dx          ; first serial port
        0xB8, 0xE3, 0x00,       //       mov ax, 0x00E3      ; 9600 baud, 8 bits, no parity
        0xCD, 0x14,             //       int 0x14
        0xBE, 0x00, 0x00,       //       mov si, text        ; filled in below
        0xAC,                   // next: lodsb
        0x84, 0xC0,             //       test al, al
        0x74, 0x11,             //       jz done
        0x50,                   //       push ax
        0xB4, 0x0E,             //       mov ah, 0x0E        ; teletype output
        0xBB, 0x07, 0x00,       //       mov bx, 0x0007
        0xCD, 0x10,             //       int 0x10
        0x58,                   //       pop ax
        0x31, 0xD2,             //       xor dx, dx
        0xB4, 0x01,             //       mov ah, 0x01        ; send to the serial port
        0xCD, 0x14,             //       int 0x14
        0xEB, 0xEA,             //       jmp next
        0xF4,                   // done: hlt
        0xEB, 0xFD,             //       jmp done
    ];
    let text_at = 0x7C00 + code.len() as u16;
    code[18..20].copy_from_slice(&text_at.to_le_bytes());
    code.extend_from_slice(name.as_bytes());
    code.extend_from_slice(b": started by BIOS\r\n\0");
    assert!(code.len() <= 440, "the name must leave room for the partition table");
    code
}

/// A UEFI application for x86-64 that prints one line on the console and waits.
///
/// Source of the layout: PE/COFF specification, "COFF File Header" and "Optional Header (Image Only)".
pub fn efi_program(name: &str) -> Vec<u8> {
    #[rustfmt::skip]
    let mut code: Vec<u8> = vec![
        0x48, 0x83, 0xEC, 0x28,                   //       sub rsp, 40
        0x48, 0x8B, 0x4A, 0x40,                   //       mov rcx, [rdx + 64]  ; SystemTable.ConOut
        0x48, 0x8D, 0x15, 0x06, 0x00, 0x00, 0x00, //       lea rdx, [rip + text]
        0xFF, 0x51, 0x08,                         //       call [rcx + 8]       ; OutputString
        0xF4,                                     // wait: hlt
        0xEB, 0xFD,                               //       jmp wait
    ];
    for unit in format!("{name}: started by UEFI\r\n\0").encode_utf16() {
        code.extend_from_slice(&unit.to_le_bytes());
    }
    let file_size = code.len().next_multiple_of(SECTOR);

    let mut file = vec![0u8; SECTOR + file_size];
    let mut put = |at: usize, bytes: &[u8]| file[at..at + bytes.len()].copy_from_slice(bytes);
    put(0x00, b"MZ");
    put(0x3C, &0x80u32.to_le_bytes()); // where the PE header is
    put(0x80, b"PE\0\0");
    put(0x84, &0x8664u16.to_le_bytes()); // machine: x86-64
    put(0x86, &1u16.to_le_bytes()); // sections
    put(0x94, &240u16.to_le_bytes()); // size of the optional header
    put(0x96, &0x0022u16.to_le_bytes()); // executable, large addresses
    let optional = 0x98;
    put(optional, &0x020Bu16.to_le_bytes()); // PE32+
    put(optional + 4, &(file_size as u32).to_le_bytes()); // size of code
    put(optional + 16, &0x1000u32.to_le_bytes()); // entry point
    put(optional + 20, &0x1000u32.to_le_bytes()); // base of code
    put(optional + 32, &0x1000u32.to_le_bytes()); // section alignment
    put(optional + 36, &0x0200u32.to_le_bytes()); // file alignment
    put(optional + 56, &0x2000u32.to_le_bytes()); // size of the image in memory
    put(optional + 60, &0x0200u32.to_le_bytes()); // size of the headers
    put(optional + 68, &10u16.to_le_bytes()); // subsystem: EFI application
    put(optional + 108, &16u32.to_le_bytes()); // data directories, all empty
    let section = optional + 240;
    put(section, b".text\0\0\0");
    put(section + 8, &(code.len() as u32).to_le_bytes());
    put(section + 12, &0x1000u32.to_le_bytes());
    put(section + 16, &(file_size as u32).to_le_bytes());
    put(section + 20, &(SECTOR as u32).to_le_bytes());
    put(section + 36, &0x6000_0020u32.to_le_bytes()); // code, executable, readable
    put(SECTOR, &code);
    file
}
