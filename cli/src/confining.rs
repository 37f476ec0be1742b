//! What this process gives up before its command begins, by what it was asked: calls of the system, files, memory and time.

use std::io;
use std::path::Path;

use pyrotyp_core::devices::keyholder::{self, SystemDrives};
use pyrotyp_core::job::save::{map_path, part_path, sum_path};
use pyrotyp_core::machine::{self, DriveRights, NamedPlaces, Network, Workload};

use crate::asked::{Against, Asked, Command, LedgerCommand, ShelfCommand};
use crate::commands::station::read_plan;
use crate::exit::{Exit, Failure, chain, plain};
use crate::session::folders::{state_folder, variable};
use crate::session::settings_file;

/// Variables by which a person names certificates of authorities.
const CERTIFICATES: [&str; 2] = ["SSL_CERT_FILE", "SSL_CERT_DIR"];

/// Becomes two processes where root itself asks for drives: one keeps the rights, and the other does what was asked. The status of the
/// other, for the one that keeps them.
pub(crate) fn divided(Asked { command, common }: &Asked) -> Result<Option<u8>, Failure> {
    let has_drives = (command.opens_drives() || command.lists_drives()) && common.tray.is_none();
    if !has_drives || !machine::is_root() || keyholder::is_apart() {
        return Ok(None);
    }
    let system_drives = if command.reads_drives() { SystemDrives::Readable } else { SystemDrives::Closed };
    let status = keyholder::divide_root(system_drives);
    status.map(Some).map_err(|error| Failure::new(Exit::Refused, chain(&error), error.next_step()))
}

/// Gives it up, and tells what this system does not let be given up.
pub(crate) fn confine(asked: &Asked) -> Vec<String> {
    let command = &asked.command;
    let network = if command.uses_network() { Network::Used } else { Network::Unused };
    let drives = if keyholder::is_apart() { DriveRights::Lent } else { DriveRights::Own };
    let places = places(asked);
    let writes = || if places.outputs.is_empty() { Ok(()) } else { machine::start_output_writer(&places.outputs) };
    let rights = || if machine::is_root() { machine::keep_files_alone() } else { Ok(()) };
    let steps: [(&str, &dyn Fn() -> io::Result<()>); 5] = [
        ("starts no process that writes output files", &writes),
        ("does not limit a process", &|| machine::limit(workload(command))),
        ("puts no folder out of a process's reach", &|| machine::fence(&places)),
        ("leaves root's process all its rights", &rights),
        ("lets nothing be refused to a process", &|| machine::confine(network, drives)),
    ];
    let done = steps.into_iter().map(|(what, step)| (what, step()));
    done.filter_map(|(what, done)| Some(format!("this system {what}: {}", plain(&done.err()?)))).collect()
}

fn workload(command: &Command) -> Workload {
    match command {
        Command::Inspect { .. } | Command::Contents { .. } | Command::Ledger(_) | Command::Settings => Workload::Looks,
        Command::Rehearse(_) => Workload::Emulates,
        #[cfg(feature = "demo")]
        Command::Demo { .. } => Workload::Emulates,
        _ => Workload::Works,
    }
}

/// Where it may read and write.
fn places(asked: &Asked) -> NamedPlaces {
    let (command, common) = (&asked.command, &asked.common);
    let mut places = NamedPlaces { read: settings_file::folders(), ..NamedPlaces::default() };
    let state = state_folder(common);
    if let Some(state) = &state {
        if command.keeps_records() {
            // Where it can't be made, the command says so.
            let _ = machine::make_folder(state);
        }
        places.written.extend(Some(state.clone()).filter(|state| state.is_dir()));
    }
    places.written.extend(common.tray.clone());
    if command.needs_scratch() {
        places.read.extend(variable("PATH").iter().flat_map(std::env::split_paths));
        places.written.push(std::env::temp_dir());
    }
    of_command(command, state.as_deref(), &mut places);
    places
}

fn of_command(command: &Command, state: Option<&Path>, places: &mut NamedPlaces) {
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
            write.save_first.iter().for_each(|file| of_saved(file, places));
        }
        Command::Unpack(unpack) => {
            places.read_beside(&unpack.image);
            of_against(&unpack.against, places);
        }
        Command::Compare { image, .. } => image.iter().for_each(|image| places.read_beside(image)),
        Command::Save(save) => of_saved(&save.file, places),
        Command::Rehearse(rehearse) => places.read_beside(&rehearse.what),
        Command::Station(station) => of_station(&station.plan, places),
        Command::Fetch(fetch) => {
            places.read.extend(CERTIFICATES.iter().filter_map(|name| variable(name)));
            let named = fetch.what.iter().chain(&fetch.catalogue).map(Path::new);
            named.filter(|file| file.exists()).for_each(|file| places.read_beside(file));
            of_against(&fetch.against, places);
            fetch.into.iter().for_each(|folder| places.write_below(folder));
        }
        Command::Shelf { command: Some(ShelfCommand::Add { files, moves }) } => {
            files.iter().for_each(|file| places.read_beside(file));
            if *moves {
                files.iter().for_each(|file| of_moved(file, state, places));
            }
        }
        Command::Ledger(ledger) => {
            if let Some(LedgerCommand::Report { into, .. } | LedgerCommand::Label { into, .. }) = &ledger.command {
                places.add_output(into);
                // A job with several drives has a label for each.
                places.outputs.add_suffixed_files(into);
            }
        }
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

fn of_station(plan: &Path, places: &mut NamedPlaces) {
    places.read_beside(plan);
    // One that can't be read is told by the command.
    if let Ok(plan) = read_plan(plan) {
        places.read_beside(&plan.image);
        plan.labels_into.iter().for_each(|folder| places.write_below(folder));
        plan.report_into.iter().for_each(|file| places.add_output(file));
    }
}

/// A file that moves from its folder to the shelf in this state folder.
fn of_moved(file: &Path, state: Option<&Path>, places: &mut NamedPlaces) {
    places.add_output(file);
    let onto_shelf = state.zip(file.file_name()).map(|(state, name)| state.join("shelf").join(name));
    onto_shelf.iter().for_each(|file| places.add_output(file));
}

/// Output files of a saved drive: the file, its part while the job runs, its map and its checksum.
fn of_saved(file: &Path, places: &mut NamedPlaces) {
    for output in [file.to_owned(), sum_path(file), map_path(file)] {
        places.add_output(&output);
    }
    // The command refuses a file that exists.
    if !file.exists() {
        places.create_output(&part_path(file));
    }
    places.read.push(map_path(file));
}

fn of_against(against: &Against, places: &mut NamedPlaces) {
    let files = against.sums.iter().chain(&against.signature).chain(&against.key);
    files.for_each(|file| places.read_beside(file));
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    #[test]
    fn output_files_leave_their_folder_closed() {
        let folder = tempfile::tempdir().unwrap();
        let home = folder.path();
        let of = |words: &str| {
            let words = words.replace('~', home.to_str().unwrap());
            places(&Asked::try_parse_from(words.split(' ')).unwrap())
        };
        for words in [
            "pyrotyp save DBR7J ~/stick.img --state ~/state",
            "pyrotyp write ~/a.iso --to DBR7J --save-first ~/stick.img --state ~/state",
            "pyrotyp ledger report last --into ~/page.html --state ~/state",
            "pyrotyp ledger label last --into ~/label.svg --state ~/state",
            "pyrotyp shelf add ~/a.iso --move --state ~/state",
            "pyrotyp manual --into ~/pages",
            "pyrotyp demo --keep ~/bench",
            "pyrotyp fetch https://host.example/a.iso --into ~/images/new --state ~/state",
        ] {
            let NamedPlaces { read, written, .. } = of(words);
            // System programs may write to the folder for temporary files, in which this home lies.
            let opened = |place: &std::path::PathBuf| home.starts_with(place) && *place != std::env::temp_dir();
            let opens = |places: &[std::path::PathBuf]| places.iter().any(opened);
            assert!(!opens(&read) && !opens(&written), "{words}: {written:?}");
        }
        assert!(home.join("images/new").is_dir() && home.join("stick.img.part").is_file());
    }
}
