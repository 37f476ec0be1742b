//! `pyrotyp demo`: the whole job on made-up images and simulated drives.

use std::fs;
use std::io::{Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use clap::Parser;
use pyrotyp_core::devices::Platform;
use pyrotyp_core::devices::tray::{FILE_NAME, Tray};
use pyrotyp_core::hash::{Algorithm, Hashers};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::{Shown, shell};
use pyrotyp_sample::cafe;
use pyrotyp_sample::mirror::Mirror;

use crate::asked::Asked;
use crate::exit::{Exit, Failure};
use crate::out::put;
use crate::session::Session;
use crate::show::style::{FAINT, NAME};

/// Where the stick is altered for the last step: inside the large file of the image.
const ALTERED_AT: u64 = 8 << 20;

/// The key that signs the list of checksums.
const KEY: &str = "larkspur-releases.pub";

/// The tray of the stick from the stall.
const STALL: &str = "stall";

/// The tray of the sticks for a class, and the plan for them.
const CLASS: &str = "class";
const PLAN: &str = "class.toml";

/// The page that is made at the end.
const PAGE: &str = "desktop-stick.html";

/// Runs the demo in a temporary folder, or in the new folder `keep`; each of its steps goes through `command`.
pub(crate) fn run(
    keep: Option<&Path>,
    session: &Session<'_>,
    command: &dyn Fn(&Asked, &Cancel) -> Exit,
) -> Result<Exit, Failure> {
    let temporary = tempfile::tempdir().map_err(|error| cannot("make a temporary folder", &error))?;
    let folder = match keep {
        Some(folder) if folder.read_dir().map_or(folder.exists(), |mut found| found.next().is_some()) => {
            let text = format!("{} is there already", folder.shown());
            return Err(Failure::new(Exit::Usage, text, "name a folder that is to be made"));
        }
        Some(folder) => folder.to_owned(),
        None => temporary.path().to_owned(),
    };
    build(&folder).map_err(|error| cannot(&format!("make the bench in {}", folder.shown()), &error))?;
    let published = folder.join("images");
    let server = Mirror::new(&std::path::absolute(&published).unwrap_or(published));
    let address = server.start().map_err(|error| cannot("start the stand-in for the network", &error))?;
    let catalogue = cafe::catalogue(&format!("http://{address}"), &pyrotyp_sample::sign(b"").key);
    fs::write(folder.join("catalogue.toml"), catalogue).map_err(|error| cannot("write the catalogue", &error))?;
    // The commands are then as short as a person would type them, and can be typed again with --keep.
    std::env::set_current_dir(&folder).map_err(|error| cannot("enter the bench's folder", &error))?;
    let walk = Walk { session, command, is_kept: keep.is_some() };
    walk.all()?;
    if keep.is_some() {
        begin_again().map_err(|error| cannot("put the bench back to its beginning", &error))?;
    }
    put(&match keep {
        Some(folder) => format!(
            "\nThe bench is in {0}, as it was at the beginning: cd {0}, and try the commands above.\n",
            shell::path(folder)
        ),
        None => "\nThat was the whole job. The bench is gone; `pyrotyp demo --keep DIR` leaves one to try things on.\n"
            .into(),
    })?;
    Ok(Exit::Done)
}

fn cannot(what: &str, error: &dyn std::error::Error) -> Failure {
    Failure::new(Exit::Unexpected, format!("can't {what}: {error}"), "give another folder with --keep")
}

/// Takes back what the walk has changed, so that every command ends again as it was shown to.
fn begin_again() -> std::io::Result<()> {
    fs::remove_dir_all("state")?;
    fs::remove_file(PAGE)?;
    for stick in ["class-2", "class-3"] {
        fs::remove_file(Path::new(CLASS).join(format!("{stick}.img")))?;
    }
    match fs::remove_file("tray/kestrin-a.img") {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Makes the café's images, one of them damaged, and its tray.
fn build(folder: &Path) -> std::io::Result<()> {
    for sub in ["images", "second-try", "tray"] {
        fs::create_dir_all(folder.join(sub))?;
    }
    let mut list = String::new();
    for image in [cafe::desktop(), cafe::compact(), cafe::rescue()] {
        let (file, mut bytes) = (image.file, image.build());
        fs::write(folder.join("images").join(file), &bytes)?;
        let mut hashers = Hashers::new([Algorithm::Sha256]);
        hashers.update(&bytes);
        for sum in hashers.finish() {
            list.push_str(&format!("{}  {file}\n", sum.hex));
        }
        if file == cafe::desktop().file {
            // One bit in the middle: the kind of damage that no size and no table shows.
            let middle = bytes.len() / 2;
            bytes[middle] ^= 1;
            fs::write(folder.join("second-try").join(file), &bytes)?;
        }
    }
    let signed = pyrotyp_sample::sign(list.as_bytes());
    for sub in ["images", "second-try"] {
        fs::write(folder.join(sub).join("SHA256SUMS"), &list)?;
        fs::write(folder.join(sub).join("SHA256SUMS.sig"), &signed.signature)?;
    }
    fs::write(folder.join(KEY), &signed.key)?;
    fs::create_dir_all(folder.join(STALL))?;
    fs::write(folder.join(STALL).join(FILE_NAME), cafe::STALL_TRAY)?;
    fs::create_dir_all(folder.join(CLASS))?;
    fs::write(folder.join(CLASS).join(FILE_NAME), cafe::class_tray())?;
    fs::write(folder.join(PLAN), cafe::CLASS_PLAN)?;
    fs::write(folder.join("tray").join(FILE_NAME), cafe::TRAY)
}

struct Walk<'a> {
    session: &'a Session<'a>,
    command: &'a dyn Fn(&Asked, &Cancel) -> Exit,
    /// Whether the bench stays, so that its commands are to be typed again.
    is_kept: bool,
}

impl Walk<'_> {
    fn all(&self) -> Result<(), Failure> {
        let (desktop, compact, rescue) = (cafe::desktop().file, cafe::compact().file, cafe::rescue().file);
        let tags = self.tags()?;
        let tag = |name: &str| tags.iter().find(|(path, _)| path.ends_with(name)).map_or("", |(_, tag)| tag);
        let (stick, system, backup) = (tag("kestrin-a"), tag("marrow"), tag("odalen"));

        if self.is_kept {
            // What stands in for the network ends with the demo.
            self.say("The Harbour Street Repair Café has an image, a list of checksums and the publisher's key.")?;
            self.step(&["check", &in_images(desktop), "--key", KEY], Exit::Done)?;
            self.step(&["shelf", "add", &in_images(desktop)], Exit::Done)?;
        } else {
            self.say(
                "The Harbour Street Repair Café needs an image. The line breaks once on the way, and nothing is lost.",
            )?;
            self.step(&["fetch", "larkspur", "desktop", "--catalogue", "catalogue.toml"], Exit::Done)?;
        }
        self.step(&["shelf"], Exit::Done)?;
        self.say("Three images lie in a folder. What are they, and would a stick made from them start a PC?")?;
        self.step(&["inspect", &in_images(desktop), &in_images(compact), &in_images(rescue)], Exit::Done)?;
        self.say("Is a download the file that was published? The list and its signature lie beside it; the key is known by now.")?;
        self.step(&["check", &in_images(compact)], Exit::Done)?;
        self.say("Another download of the same image has one wrong bit. It is refused before any drive is touched.")?;
        let damaged = format!("second-try/{desktop}");
        self.step(&["write", &damaged, "--to", stick, "--unattended"], Exit::Checksum)?;
        self.say("Which drives are attached? Each has a tag that stays with it on every port and PC.")?;
        self.step(&["drives", "--all"], Exit::Done)?;
        self.say("The bench PC's own disk can't be chosen, whatever is accepted. The backup disk is guarded too.")?;
        let image = desktop.trim_end_matches(".iso");
        let on_system = ["write", image, "--to", system, "--accept", "system-disk", "--unattended"];
        self.step(&on_system, Exit::Refused)?;
        self.step(&["write", image, "--to", backup, "--unattended"], Exit::Refused)?;
        self.say("Now the stick: written, read back, and made startable only when all of it is right.")?;
        self.step(&["write", image, "--to", stick, "--unattended"], Exit::Done)?;
        self.say(
            "Whoever gets the stick gets a page about it too: what is on it, how that was proven, and how to start it.",
        )?;
        self.step(&["ledger", "report", "last", "--into", PAGE], Exit::Done)?;
        self.say("A week later a few bytes on the stick are not what they were. Which ones, and what lies there?")?;
        alter(Path::new("tray/kestrin-a.img")).map_err(|error| cannot("alter the simulated stick", &error))?;
        self.step(&["compare", stick, image], Exit::Differs)?;
        self.say("All of this is on record: what was done, and what was on which stick when.")?;
        self.step(&["ledger"], Exit::Done)?;
        self.step(&["ledger", "drive", stick], Exit::Done)?;
        self.say("The laptop is done, and the stick comes back: plain storage again, and nothing left that a PC would start.")?;
        let again = ["reclaim", stick, "--label", "CAFE", "--accept", "just-verified", "--unattended"];
        self.step(&again, Exit::Done)?;
        self.say("Somebody brings a stick from a market stall: 64 GB, and cheap. Can it be trusted? What is on it stays on it.")?;
        let doubted = Tray::open(Path::new(STALL))?.drives()?;
        let doubted = doubted.first().map_or(String::new(), |drive| drive.tag.to_string());
        self.step(&["gauge", &doubted, "--unattended", "--tray", STALL], Exit::Differs)?;
        self.say("A class gets sticks, by a plan: each that is plugged in and empty is made, one that holds files is left alone.")?;
        self.step(&["station", PLAN, "--sticks", "2", "--tray", CLASS], Exit::Done)
    }

    fn tags(&self) -> Result<Vec<(String, String)>, Failure> {
        let drives = Tray::open(Path::new("tray"))?.drives()?;
        Ok(drives.into_iter().map(|drive| (drive.path, drive.tag.to_string())).collect())
    }

    fn say(&self, text: &str) -> Result<(), Failure> {
        put(&format!("\n{NAME}{text}{NAME:#}\n"))
    }

    /// Shows a command, runs it on the tray, and makes sure that it ends as it should.
    fn step(&self, words: &[&str], expected: Exit) -> Result<(), Failure> {
        let on_tray = words.first().is_some_and(|command| !matches!(*command, "inspect" | "check" | "fetch" | "shelf"));
        let tray: &[&str] = if on_tray && !words.contains(&"--tray") { &["--tray", "tray"] } else { &[] };
        // Records of made-up jobs belong to the bench.
        let state: &[&str] = &["--state", "state"];
        let short = [&["pyrotyp"], words, tray].concat();
        let typed = [&short, state].concat();
        put(&format!("{FAINT}$ {}{FAINT:#}\n", if self.is_kept { &typed } else { &short }.join(" ")))?;
        let mut asked = Asked::try_parse_from(typed)
            .map_err(|error| Failure::new(Exit::Unexpected, format!("the demo's own command is wrong: {error}"), ""))?;
        asked.common.color = self.session.common.color;
        let exit = (self.command)(&asked, self.session.cancel);
        if exit == Exit::Stopped {
            return Err(Failure::new(Exit::Stopped, "the demo was stopped", "run it again"));
        }
        if exit != expected {
            let text = format!("the demo expected exit status {} here, not {}", expected as u8, exit as u8);
            return Err(Failure::new(Exit::Unexpected, text, "report this: it should not happen"));
        }
        put(&format!("{FAINT}exit status {}{FAINT:#}\n", exit as u8))
    }
}

fn in_images(file: &str) -> String {
    format!("images/{file}")
}

/// Changes a few bytes behind the tool's back.
fn alter(stick: &Path) -> std::io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).open(PathBuf::from(stick))?;
    file.seek(SeekFrom::Start(ALTERED_AT))?;
    file.write_all(b"somebody's holiday pictures")
}
