//! The drive that was meant, among those that are attached.

use std::path::Path;

use pyrotyp_core::devices::tray::Tray;
use pyrotyp_core::devices::{Logged, Platform, arrived, choose, this_machine};
use pyrotyp_core::drive::{Choice, Drive, NamedBy, Tag};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::text::Shown;

use super::Session;
use crate::asked::Common;
use crate::exit::{Exit, Failure};
use crate::out::say;

/// The word that stands for the next drive plugged in.
pub(crate) const ARRIVING: &str = "arriving";

/// The machine's drives, or those of a tray; where a log is wanted, what is asked of them goes there.
pub(crate) fn platform(common: &Common) -> Result<Box<dyn Platform>, Failure> {
    let platform: Box<dyn Platform> = match &common.tray {
        Some(folder) => {
            let tray = Tray::open(folder).map_err(|error| Failure { exit: Exit::Usage, ..error.into() })?;
            Box::new(tray)
        }
        None => this_machine(),
    };
    let platform = if common.log.is_some() { Box::new(Logged::new(platform)) } else { platform };
    Ok(platform)
}

/// The drive that `asked` means; for `arriving`, waits until one is plugged in.
pub(crate) fn choose_drive(
    platform: &dyn Platform,
    asked: &str,
    cancel: &Cancel,
    tell: &dyn Fn(&str),
) -> Result<Choice, Failure> {
    if asked != ARRIVING {
        if Path::new(asked).is_file() && asked.parse::<Tag>().is_err() {
            let text = format!("`{}` is a file, and a drive is wanted here", asked.shown());
            return Err(Failure::new(Exit::Usage, text, "name the drive by its tag: pyrotyp drives"));
        }
        return Ok(choose(platform, asked)?);
    }
    let before: Vec<Drive> = platform.drives()?;
    tell("plug the drive in now; those that are attached already do not count (Ctrl-C to leave it)\n");
    loop {
        if cancel.is_set() {
            return Err(Failure::new(Exit::Stopped, "no drive was plugged in", "run the same command again"));
        }
        if let Some(drive) = arrived(&before, &platform.drives()?) {
            return Ok(Choice { drive: drive.clone(), by: NamedBy::Arriving, partition: None });
        }
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
}

/// The whole drive that is meant, with a medium in it.
pub(crate) fn whole_drive(platform: &dyn Platform, asked: &str, session: &Session<'_>) -> Result<Drive, Failure> {
    let choice = choose_drive(platform, asked, session.cancel, &|text| say(session.common, text))?;
    if choice.partition.is_some() {
        let text = format!("`{}` is a partition, and an image takes a whole drive", asked.shown());
        return Err(Failure::new(Exit::Refused, text, format!("name the drive: {}", choice.drive.tag)));
    }
    needs_medium(&choice.drive)?;
    Ok(choice.drive)
}

/// A reader without a card has nothing to be read.
pub(crate) fn needs_medium(drive: &Drive) -> Result<(), Failure> {
    match drive.bytes {
        0 => Err(Failure::new(Exit::Refused, format!("drive {} has no medium in it", drive.tag), "put the card in")),
        _ => Ok(()),
    }
}
