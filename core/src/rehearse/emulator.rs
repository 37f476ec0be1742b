//! The emulator: started, asked what its screen and its lines show, and ended.

use std::ffi::OsString;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use serde_json::{Value, json};
use tempfile::TempDir;

use super::error::RehearseError;
use super::firmware::{SecureBoot, UEFI_MACHINE, UefiFirmware, find};
use super::monitor::Monitor;
use super::order::{Runner, TrialOrder};
use super::picture::ScreenPicture;
use super::stick::TrialStick;
use crate::devices::end_with_this_thread;
use crate::image::Firmware;
use crate::machine::{self, Channel, HandedOver};

/// The emulator of a PC.
const PROGRAM: &str = "qemu-system-x86_64";
/// Where the BIOS of the emulator tells what it does: SeaBIOS, docs/Debugging.md.
const BIOS_LOG_PORT: &str = "0x402";
/// What the stick is called among the emulated PC's devices.
const STICK: &str = "trial-stick";
/// Memory of the emulated PC, in MiB.
const MEMORY_MIB: u32 = 1024;
/// Most that is read of the text screen's memory and of a picture of the screen, in bytes.
const SCREEN_BYTES_MOST: u64 = 64 << 20;
/// Most that the firmware's variables take at first, in bytes.
const VARIABLES_BYTES_MOST: u64 = 16 << 20;
/// The memory of the text screen, 25 rows of 80 cells of a character and its colour: IBM PC Technical Reference, colour text.
const TEXT_AT: u64 = 0xB8000;
const TEXT_BYTES: u64 = 25 * 80 * 2;
/// Most that is held of what came over one line, in bytes.
const HEARD_MOST: usize = 512 << 10;
/// What is kept of its beginning when more comes.
const HEARD_FIRST: usize = 64 << 10;
/// How long a line may be silent before it is listened to anew.
const PATIENCE: Duration = Duration::from_secs(1);

/// An emulated PC that is switched on.
pub(super) struct Emulator {
    child: Child,
    pub monitor: Monitor,
    serial: Heard,
    bios: Heard,
    scratch: TempDir,
    /// Whether the machine's own processor runs it.
    pub accelerated: bool,
}

/// What comes over a line: it is taken by a thread, since the PC stands still while nobody takes it.
struct Heard(Arc<Mutex<Vec<u8>>>);

impl Heard {
    /// Hears until the emulator ends.
    fn of(mut line: Channel) -> Self {
        let heard = Arc::new(Mutex::new(Vec::new()));
        let kept = Arc::clone(&heard);
        std::thread::spawn(move || {
            let mut piece = [0; 8192];
            loop {
                match line.hear(&mut piece, PATIENCE) {
                    Ok(Some(count @ 1..)) => {
                        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
                        kept.extend_from_slice(piece.get(..count).unwrap_or_default());
                        // Of very much, the beginning and the end.
                        let over = kept.len().saturating_sub(HEARD_MOST);
                        if over > 0 {
                            kept.drain(HEARD_FIRST..HEARD_FIRST.saturating_add(over));
                        }
                    }
                    Ok(None) => {}
                    Ok(Some(_)) | Err(_) => break,
                }
            }
        });
        Self(heard)
    }

    /// All that came until now.
    fn until_now(&self) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// A path in an option of the emulator, where a comma ends a value.
fn in_option(path: &Path) -> String {
    path.to_string_lossy().replace(',', ",,")
}

/// What the emulator is told: words, and by which numbers it knows what it is handed.
struct Words(Vec<OsString>);

impl Words {
    fn add<const N: usize>(&mut self, words: [&str; N]) {
        self.0.extend(words.map(OsString::from));
    }

    /// What every PC has.
    fn machine(&mut self, order: &TrialOrder<'_>, uefi: Option<&UefiFirmware>) {
        let machine = match (order.firmware, uefi) {
            (Firmware::Uefi, Some(UefiFirmware { wants_smm: true, .. })) => format!("{UEFI_MACHINE},usb=off,smm=on"),
            (Firmware::Uefi, _) => format!("{UEFI_MACHINE},usb=off"),
            (Firmware::Bios, _) => "pc,usb=off".to_owned(),
        };
        self.add(["-nodefaults", "-no-user-config", "-display", "none", "-machine", &machine]);
        // The first that can be had counts.
        if order.runner == Runner::Processor {
            self.add(["-accel", "kvm"]);
        }
        self.add(["-accel", "tcg,thread=multi", "-cpu", "max", "-m", &MEMORY_MIB.to_string()]);
        // What is emulated may start no other program and gain no rights.
        self.add(["-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny"]);
        self.add(["-action", "shutdown=pause", "-device", "VGA", "-device", "qemu-xhci", "-boot", "strict=on"]);
    }

    fn line(&mut self, name: &str, handed: &HandedOver) {
        self.add(["-chardev", &format!("socket,id={name},fd={}", handed.number())]);
    }

    /// The stick: read, and never written.
    fn stick(&mut self, stick: &TrialStick, handed: &HandedOver) {
        self.add(["-add-fd", &format!("fd={},set=1", handed.number())]);
        let driver = if stick.is_device { "host_device" } else { "file" };
        let file = format!("driver={driver},node-name=file,filename=/dev/fdset/1,read-only=on,locking=off");
        self.add(["-blockdev", &file, "-blockdev", "driver=raw,node-name=stick,file=file,read-only=on"]);
        let sector = stick.sector_bytes;
        let drive = format!(
            "usb-storage,id={STICK},drive=stick,removable=on,bootindex=0,logical_block_size={sector},physical_block_size={sector}"
        );
        self.add(["-device", &drive]);
    }

    fn flash(&mut self, uefi: &UefiFirmware, variables: &Path) {
        if uefi.wants_smm {
            self.add(["-global", "driver=cfi.pflash01,property=secure,value=on"]);
        }
        let program = format!(
            "if=pflash,unit=0,readonly=on,format={},file={}",
            uefi.program.format,
            in_option(&uefi.program.filename)
        );
        let variables = format!("if=pflash,unit=1,format={},file={}", uefi.variables.format, in_option(variables));
        self.add(["-drive", &program, "-drive", &variables]);
    }
}

impl Emulator {
    /// Switches a PC on with the stick in it.
    pub(super) fn start(order: &TrialOrder<'_>) -> Result<Self, RehearseError> {
        let program = machine::find_program(PROGRAM).ok_or(RehearseError::NoEmulator { program: PROGRAM })?;
        let secure = if order.secure_boot { SecureBoot::Enforced } else { SecureBoot::Off };
        let uefi = (order.firmware == Firmware::Uefi).then(|| find(secure)).transpose()?;
        let scratch = tempfile::tempdir()?;
        let (line, monitor_end) = Channel::new()?;
        let (serial, serial_end) = Channel::new()?;
        let (bios, bios_end) = Channel::new()?;
        let stick = HandedOver::file(&order.stick.file)?;
        let mut words = Words(Vec::new());
        words.machine(order, uefi.as_ref());
        words.line("monitor", &monitor_end);
        words.line("serial", &serial_end);
        words.line("bios", &bios_end);
        words.add(["-mon", "chardev=monitor,mode=control", "-serial", "chardev:serial"]);
        words.add(["-device", &format!("isa-debugcon,iobase={BIOS_LOG_PORT},chardev=bios")]);
        words.stick(order.stick, &stick);
        if let Some(uefi) = &uefi {
            let variables = scratch.path().join("variables");
            // A copy of the file would be as little to be written as the file.
            std::fs::write(&variables, machine::read_regular(&uefi.variables.filename, VARIABLES_BYTES_MOST)?)?;
            words.flash(uefi, &variables);
        }
        let mut command = Command::new(program);
        let said = scratch.path().join("said");
        command.args(words.0).stdin(Stdio::null()).stdout(Stdio::null()).stderr(File::create(&said)?);
        end_with_this_thread(&mut command);
        let mut child = command.spawn()?;
        drop((monitor_end, serial_end, bios_end, stick));
        let (serial, bios) = (Heard::of(serial), Heard::of(bios));
        match Monitor::new(line) {
            Ok(monitor) => {
                let mut emulator = Self { child, monitor, serial, bios, scratch, accelerated: false };
                let kvm = emulator.monitor.ask("query-kvm", json!({}))?;
                emulator.accelerated = kvm.get("enabled") == Some(&Value::Bool(true));
                Ok(emulator)
            }
            Err(error) => {
                // It may as well hang.
                let _ = child.kill();
                let _ = child.wait();
                Err(last_words(&said).map_or(error, |said| RehearseError::Emulator { said }))
            }
        }
    }

    fn scratch_file(&self, name: &str) -> PathBuf {
        self.scratch.path().join(name)
    }

    /// A picture of the screen.
    pub(super) fn picture(&mut self) -> Result<ScreenPicture, RehearseError> {
        let file = self.scratch_file("screen");
        self.monitor.ask("screendump", json!({ "filename": file.to_string_lossy() }))?;
        let bytes = machine::read_regular(&file, SCREEN_BYTES_MOST)?;
        ScreenPicture::of_ppm(&bytes).ok_or_else(|| RehearseError::Emulator { said: "its picture is none".to_owned() })
    }

    /// The characters of the text screen, row by row without a break, as the PC's code page 437 has them.
    pub(super) fn text_memory(&mut self) -> Result<Vec<u8>, RehearseError> {
        let file = self.scratch_file("text");
        let what = json!({ "val": TEXT_AT, "size": TEXT_BYTES, "filename": file.to_string_lossy() });
        self.monitor.ask("pmemsave", what)?;
        Ok(machine::read_regular(&file, TEXT_BYTES)?.into_iter().step_by(2).collect())
    }

    /// How much was read from the stick until now, in bytes.
    pub(super) fn read_bytes(&mut self) -> Result<u64, RehearseError> {
        let told = self.monitor.ask("query-blockstats", json!({}))?;
        let is_stick = |one: &&Value| one.get("qdev").and_then(Value::as_str).is_some_and(|at| at.contains(STICK));
        let stick = told.as_array().into_iter().flatten().find(is_stick);
        let read = stick.and_then(|one| one.pointer("/stats/rd_bytes")?.as_u64());
        read.ok_or_else(|| RehearseError::Emulator { said: "it knows nothing of the stick".to_owned() })
    }

    /// What came over the serial line.
    pub(super) fn serial(&self) -> Vec<u8> {
        self.serial.until_now()
    }

    /// What the BIOS told of what it does.
    pub(super) fn bios_log(&self) -> Vec<u8> {
        self.bios.until_now()
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        // One that is gone already needs no ending.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The last line of what it said before it ended.
fn last_words(file: &Path) -> Option<String> {
    const BYTES_MOST: u64 = 1 << 20;
    let said = machine::read_regular(file, BYTES_MOST).ok()?;
    let said = String::from_utf8_lossy(&said);
    said.lines().rfind(|line| !line.trim().is_empty()).map(|line| line.trim().to_owned())
}
