//! What this process gives up before its command begins, by what it was asked: calls of the system, files, memory and time.

use std::path::Path;

use pyrotyp_core::devices::keyholder;
use pyrotyp_core::machine::{self, Errand, Network, Places};

use crate::asked::{Against, Asked, Command, LedgerCommand, ShelfCommand};
use crate::commands::station::read_plan;
use crate::exit::plain;
use crate::session::folders::{state_folder, variable};
use crate::session::settings_file;

/// Variables by which a person names certificates of authorities.
const CERTIFICATES: [&str; 2] = ["SSL_CERT_FILE", "SSL_CERT_DIR"];

/// Gives it up, and tells what this system does not let be given up.
pub(crate) fn confine(asked: &Asked) -> Vec<String> {
    let command = &asked.command;
    let mut left = Vec::new();
    if let Err(error) = machine::limit(errand(command)) {
        left.push(format!("this system does not limit a process: {}", plain(&error)));
    }
    if is_root_with_drives(asked) {
        left.push("root itself may unmount, and so reach every file: no folder is out of reach".to_owned());
    } else if let Err(error) = machine::fence(&places(asked)) {
        left.push(format!("this system puts no folder out of a process's reach: {}", plain(&error)));
    }
    let network = if command.uses_network() { Network::Used } else { Network::Unused };
    if let Err(error) = machine::confine(network) {
        left.push(format!("this system lets nothing be refused to a process: {}", plain(&error)));
    }
    left
}

/// Who is fenced in can't unmount, and where root has no keyholder, nobody else does.
fn is_root_with_drives(Asked { command, common }: &Asked) -> bool {
    let has_drives = (command.opens_drives() || command.lists_drives()) && common.tray.is_none();
    has_drives && machine::is_root() && !keyholder::is_apart()
}

fn errand(command: &Command) -> Errand {
    match command {
        Command::Inspect { .. } | Command::Contents { .. } | Command::Ledger(_) | Command::Settings => Errand::Looks,
        Command::Rehearse(_) => Errand::Emulates,
        #[cfg(feature = "demo")]
        Command::Demo { .. } => Errand::Emulates,
        _ => Errand::Works,
    }
}

/// Where it may read and write.
fn places(asked: &Asked) -> Places {
    let (command, common) = (&asked.command, &asked.common);
    let mut places = Places { read: settings_file::folders(), ..Places::default() };
    if let Some(state) = state_folder(common) {
        if command.keeps_records() {
            // Where it can't be made, the command says so.
            let _ = machine::make_folder(&state);
        }
        places.written.extend(Some(state).filter(|state| state.is_dir()));
    }
    places.written.extend(common.tray.clone());
    if command.needs_scratch() {
        places.read.extend(variable("PATH").iter().flat_map(std::env::split_paths));
        places.written.push(std::env::temp_dir());
    }
    of_command(command, &mut places);
    places
}

fn of_command(command: &Command, places: &mut Places) {
    match command {
        Command::Inspect { images } => images.iter().for_each(|image| places.read_beside(image)),
        Command::Check { image, against } => {
            places.read_beside(image);
            of_against(against, places);
        }
        Command::Write(write) => {
            match &write.image {
                Some(image) => places.read_beside(image),
                // Those that lie here are offered.
                None => places.read_files_in(Path::new(".")),
            }
            of_against(&write.against, places);
            write.save_first.iter().for_each(|file| places.write_below(file));
        }
        Command::Unpack(unpack) => {
            places.read_beside(&unpack.image);
            of_against(&unpack.against, places);
        }
        Command::Compare { image, .. } => image.iter().for_each(|image| places.read_beside(image)),
        Command::Save(save) => places.write_below(&save.file),
        Command::Rehearse(rehearse) => places.read_beside(&rehearse.what),
        Command::Station(station) => {
            places.read_beside(&station.plan);
            // One that can't be read is told by the command.
            if let Ok(plan) = read_plan(&station.plan) {
                places.read_beside(&plan.image);
                plan.labels_into.iter().chain(&plan.report_into).for_each(|place| places.write_below(place));
            }
        }
        Command::Fetch(fetch) => {
            places.read.extend(CERTIFICATES.iter().filter_map(|name| variable(name)));
            let named = fetch.what.iter().chain(&fetch.catalogue).map(Path::new);
            named.filter(|file| file.exists()).for_each(|file| places.read_beside(file));
            of_against(&fetch.against, places);
            fetch.into.iter().for_each(|folder| places.write_below(folder));
        }
        Command::Shelf { command: Some(ShelfCommand::Add { files, moves }) } => {
            for file in files {
                places.read_beside(file);
                if *moves {
                    places.write_below(file);
                }
            }
        }
        Command::Ledger(ledger) => match &ledger.command {
            Some(LedgerCommand::Report { into, .. } | LedgerCommand::Label { into, .. }) => places.write_below(into),
            _ => {}
        },
        Command::Manual { into } => places.write_below(into),
        #[cfg(feature = "demo")]
        Command::Demo { keep } => keep.iter().for_each(|folder| places.write_below(folder)),
        Command::Drives { .. }
        | Command::Contents { .. }
        | Command::Reclaim(_)
        | Command::Gauge(_)
        | Command::Shelf { .. }
        | Command::Settings => {}
    }
}

fn of_against(against: &Against, places: &mut Places) {
    let files = against.sums.iter().chain(&against.signature).chain(&against.key);
    files.for_each(|file| places.read_beside(file));
}
