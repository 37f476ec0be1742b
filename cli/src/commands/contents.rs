//! `pyrotyp contents`: what is on a drive now?

use pyrotyp_core::contents::{Listed, contents};
use pyrotyp_core::devices::Sectors;
use pyrotyp_core::ledger;

use crate::exit::{Exit, Failure, plain};
use crate::out::{put, put_document, say};
use crate::session::Session;
use crate::session::attached::{choose_drive, needs_medium, platform};
use crate::session::folders::state_folder;
use crate::session::judged::onto;
use crate::session::pending_restore::warn_if_pending;
use crate::session::recognised::{KnownBy, Recognised, recognise};
use crate::show::{content, json};

/// Looks at one drive; nothing is mounted, and nothing is written.
pub(crate) fn run(asked: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    let platform = platform(session.common)?;
    let choice = choose_drive(&*platform, asked, session.cancel, &|text| say(session.common, text))?;
    let drive = choice.drive;
    needs_medium(&drive)?;
    warn_if_pending(&drive, &*platform, session.common);
    let open = platform.open(&drive)?;
    let mut found = contents(&Sectors::of(&*open)).map_err(|error| {
        let text = format!("drive {} can't be read: {}", drive.tag, plain(&error));
        Failure::new(Exit::Unexpected, text, "plug it into another port; if it stays so, it fails")
    })?;
    // A drive of a tray that was never written holds what its descriptor says.
    if found.volumes.is_empty() {
        let whole = drive.holds.whole.iter().map(|volume| (None, volume));
        let parts = drive.holds.partitions.iter().map(|known| (Some(known.number), &known.volume));
        let told = whole.chain(parts).map(|(number, volume)| Listed::unlisted(number, volume.clone()));
        found.volumes = told.collect();
    }
    // Where a volume is mounted, its bytes do not tell.
    for listed in &mut found.volumes {
        let known = match listed.number {
            None => drive.holds.whole.as_ref(),
            Some(number) => {
                drive.holds.partitions.iter().find(|known| known.number == number).map(|known| &known.volume)
            }
        };
        listed.volume.mounted_at = known.and_then(|known| known.mounted_at.clone());
    }
    let records = state_folder(session.common).map(|state| ledger::Drives::of(&state));
    let records = records.transpose().unwrap_or_else(|error| {
        say(session.common, &format!("the records can't be looked at: {}\n", plain(&error)));
        None
    });
    let last = records.as_ref().and_then(|records| records.last_on(&drive));
    // A stick that this bench never saw may begin like one that it knows.
    let alike = match recognise(&drive, &Sectors::of(&*open), session.common) {
        Ok(Recognised::Job { row, known: KnownBy::Head, .. }) => Some(content::by_job(&row)),
        Ok(Recognised::Shelved { path }) => Some(content::by_shelf(&path)),
        _ => None,
    };
    if session.common.json {
        put_document(&json::contents(&drive, &found, last))?;
    } else {
        put(&content::contents(
            &drive,
            &found,
            content::Records { last, alike: alike.as_deref() },
            onto(&*platform, &drive, session.common).as_deref(),
            session.common,
        ))?;
    }
    Ok(Exit::Done)
}
