//! UEFI firmware for the emulator, found by what its packages say of it: descriptors in JSON, after QEMU's docs/interop/firmware.json.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::Deserialize;

use super::error::RehearseError;
use crate::machine;

/// Where descriptors lie: of two with one name, that of the first folder holds.
const FOLDERS: [&str; 2] = ["/etc/qemu/firmware", "/usr/share/qemu/firmware"];
/// Longest descriptor that is read, in bytes.
const DESCRIPTOR_BYTES_MOST: u64 = 64 << 10;
/// Most descriptors that are looked at.
const DESCRIPTORS_MOST: usize = 256;
/// The machine with which UEFI comes.
pub(super) const UEFI_MACHINE: &str = "q35";

/// A file of firmware.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub(super) struct FlashFile {
    pub filename: PathBuf,
    /// `raw` or `qcow2`.
    pub format: String,
}

/// UEFI firmware.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct UefiFirmware {
    /// Its program.
    pub program: FlashFile,
    /// What its variables are at first.
    pub variables: FlashFile,
    /// Whether it wants memory that only the firmware sees.
    pub wants_smm: bool,
}

/// Whether signed programs alone are started.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum SecureBoot {
    Off,
    Enforced,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct FirmwareDescriptor {
    interface_types: Vec<String>,
    mapping: Mapping,
    targets: Vec<FirmwareTarget>,
    #[serde(default)]
    features: Vec<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Mapping {
    device: String,
    /// Where it is missing, program and variables are two files.
    #[serde(default)]
    mode: Option<String>,
    #[serde(default)]
    executable: Option<FlashFile>,
    #[serde(default)]
    nvram_template: Option<FlashFile>,
}

#[derive(Deserialize)]
struct FirmwareTarget {
    architecture: String,
    machines: Vec<String>,
}

impl FirmwareDescriptor {
    /// The firmware, where it is one for such a start.
    fn firmware(self, secure: SecureBoot) -> Option<UefiFirmware> {
        let has = |feature: &str| self.features.iter().any(|one| one == feature);
        let fits_keys = match secure {
            SecureBoot::Off => !has("enrolled-keys"),
            SecureBoot::Enforced => has("enrolled-keys") && has("secure-boot"),
        };
        let is_split = self.mapping.mode.as_deref().is_none_or(|mode| mode == "split");
        let is_flash = self.mapping.device == "flash" && is_split;
        let fits_machine = |name: &String| name.trim_end_matches('*').trim_end_matches('-').ends_with(UEFI_MACHINE);
        let fits =
            |target: &FirmwareTarget| target.architecture == "x86_64" && target.machines.iter().any(fits_machine);
        let is_known = |file: &FlashFile| {
            matches!(file.format.as_str(), "raw" | "qcow2") && file.filename.is_absolute() && file.filename.is_file()
        };
        let wanted = self.interface_types.iter().any(|one| one == "uefi") && is_flash && fits_keys;
        let program = self.mapping.executable.filter(is_known)?;
        let variables = self.mapping.nvram_template.filter(is_known)?;
        let wants_smm = self.features.iter().any(|one| one == "requires-smm");
        (wanted && self.targets.iter().any(fits)).then_some(UefiFirmware { program, variables, wants_smm })
    }
}

/// Firmware for such a start.
pub(super) fn find(secure: SecureBoot) -> Result<UefiFirmware, RehearseError> {
    find_in(&FOLDERS.map(Path::new), secure).ok_or(match secure {
        SecureBoot::Off => RehearseError::NoFirmware,
        SecureBoot::Enforced => RehearseError::NoKeys,
    })
}

/// The first by name, and one that wants less before one that wants more.
fn find_in(folders: &[&Path], secure: SecureBoot) -> Option<UefiFirmware> {
    let mut by_name = BTreeMap::new();
    for folder in folders.iter().rev() {
        for name in machine::names_in(folder, DESCRIPTORS_MOST).unwrap_or_default() {
            if Path::new(&name).extension().is_some_and(|ending| ending == "json") {
                let path = folder.join(&name);
                by_name.insert(name, path);
            }
        }
    }
    let read = |path: &PathBuf| -> Option<FirmwareDescriptor> {
        serde_json::from_slice(&machine::read_regular(path, DESCRIPTOR_BYTES_MOST).ok()?).ok()
    };
    let all = by_name.values().filter_map(|path| read(path)?.firmware(secure));
    all.min_by_key(|firmware| firmware.wants_smm)
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAIN: &str = r#"{"interface-types": ["uefi"], "mapping": {"device": "flash",
        "executable": {"filename": "FOLDER/code", "format": "raw"}, "nvram-template": {"filename": "FOLDER/vars", "format": "qcow2"}},
        "targets": [{"architecture": "x86_64", "machines": ["pc-i440fx-*", "pc-q35-*"]}], "features": ["acpi-s3"]}"#;

    #[test]
    fn firmware_is_found_by_what_its_packages_say() {
        let (own, system) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let folders = [own.path(), system.path()];
        for file in ["code", "vars"] {
            std::fs::write(system.path().join(file), "x").unwrap();
        }
        let put = |folder: &Path, name: &str, text: &str| {
            std::fs::write(folder.join(name), text.replace("FOLDER", &system.path().to_string_lossy())).unwrap();
        };
        let smm = |features: &str| PLAIN.replace("\"acpi-s3\"", features);
        put(system.path(), "10-other.json", &PLAIN.replace("x86_64", "aarch64"));
        put(system.path(), "11-none.json", &PLAIN.replace("FOLDER/code", "/nowhere/code"));
        put(system.path(), "12-memory.json", &PLAIN.replace("flash", "memory"));
        put(system.path(), "13-one-file.json", &PLAIN.replace("\"flash\",", "\"flash\", \"mode\": \"stateless\","));
        put(system.path(), "14-bios.json", &PLAIN.replace("uefi", "bios"));
        put(system.path(), "15-old.json", &PLAIN.replace("q35", "q36"));
        put(system.path(), "16-damaged.json", "{");
        assert_eq!(find_in(&folders, SecureBoot::Off), None);
        put(system.path(), "40-keys.json", &smm(r#""enrolled-keys", "requires-smm", "secure-boot""#));
        assert_eq!(find_in(&folders, SecureBoot::Off), None);
        put(system.path(), "50-smm.json", &smm(r#""requires-smm", "secure-boot""#));
        let found = |secure| find_in(&folders, secure).unwrap();
        assert!(found(SecureBoot::Off).wants_smm && found(SecureBoot::Enforced).wants_smm);
        put(system.path(), "60-plain.json", PLAIN);
        let plain = found(SecureBoot::Off);
        assert!(!plain.wants_smm && plain.program.format == "raw" && plain.variables.format == "qcow2");
        // One of the same name in the first folder stands in its place, and may take it away.
        put(own.path(), "60-plain.json", "");
        put(own.path(), "40-keys.json", "");
        assert!(found(SecureBoot::Off).wants_smm && find_in(&folders, SecureBoot::Enforced).is_none());
    }
}
