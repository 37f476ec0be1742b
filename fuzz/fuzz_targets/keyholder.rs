//! Any words to the side that keeps root's rights, of a machine that runs from `sda` and has a stick `sdb`.
#![no_main]

use std::fs::{self, File};
use std::path::Path;
use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::devices::keyholder::{Keyholder, SystemDrives};
use pyrotyp_core::devices::linux::Linux;

const BYTES: u64 = 1 << 20;

/// `sda` and `sdb` with a partition each; `sda1` is the root.
static MACHINE: LazyLock<tempfile::TempDir> = LazyLock::new(|| {
    let folder = tempfile::tempdir().unwrap();
    let put = |path: &str, text: &str| {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    };
    for (name, minor) in [("sda", 0), ("sdb", 16)] {
        let sectors = (BYTES / 512).to_string();
        let own =
            [("dev", format!("8:{minor}")), ("size", sectors.clone()), ("queue/logical_block_size", "512".into())];
        own.iter().for_each(|(attribute, value)| put(&format!("sys/block/{name}/{attribute}"), value));
        let part = [
            ("dev", format!("8:{}", minor + 1)),
            ("partition", "1".into()),
            ("start", "8".into()),
            ("size", "64".into()),
        ];
        part.iter().for_each(|(attribute, value)| put(&format!("sys/block/{name}/{name}1/{attribute}"), value));
        put(&format!("dev/{name}"), "");
        File::options().write(true).open(folder.path().join("dev").join(name)).unwrap().set_len(BYTES).unwrap();
    }
    put("proc/swaps", "Filename Type Size Used Priority\n");
    put("proc/self/mountinfo", "30 1 8:1 / / rw shared:1 - ext4 /dev/sda1 rw\n");
    folder
});

fn is_of(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(path).unwrap().ino() == file.metadata().unwrap().ino()
}

fuzz_target!(|data: &[u8]| {
    let mut keyholder = Keyholder::new(Linux::below(MACHINE.path()), SystemDrives::Closed);
    for said in data.split(|byte| *byte == b'\n') {
        let Some((_, file)) = keyholder.reply(said) else { return };
        let stick = MACHINE.path().join("dev/sdb");
        assert!(file.is_none_or(|file| is_of(&file.into(), &stick)), "only the stick may be opened");
    }
});
