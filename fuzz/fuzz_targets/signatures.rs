//! Any bytes as a signature, a signed list and a key, checked against each other.
#![no_main]

use jiff::Timestamp;
use libfuzzer_sys::fuzz_target;
use pyrotyp_core::published::signature::{Key, SignatureFile, Signed, verify};

fuzz_target!(|data: &[u8]| {
    // Two bytes say where the key ends and the signature begins.
    let Some((cut, data)) = data.split_first_chunk() else { return };
    let (key, signature) = data.split_at(usize::from(u16::from_le_bytes(*cut)).min(data.len()));
    let keys = Key::read_all(key).unwrap_or_default();
    for key in &keys {
        assert!(!key.fingerprint().is_empty());
        let _ = key.owner();
    }
    if let Some(read) = SignatureFile::read(signature) {
        let text = read.text.clone().unwrap_or_default();
        let _ = verify(&read.signature, Signed::Bytes(&text), &keys, &[], Timestamp::UNIX_EPOCH);
    }
});
