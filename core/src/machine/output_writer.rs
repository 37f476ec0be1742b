//! The process that creates a command's output files: it accepts requests for these files only, and ends with the process that started it.

use std::io::{self, BufReader};
use std::path::Path;

use super::file::{Existing, keep_own, put_file, remove_own, rename_without_replacing};
use super::outputs::{OUTPUT_WRITER, OutputAction, OutputFiles, OutputRequest, OutputResponse, recv, recv_bytes, send};
use super::system::parent_process_id;

/// Serves requests until the end of standard input, if this process was started as an output writer. Returns whether it was.
///
/// Call this before anything else.
pub fn run_output_writer() -> bool {
    let said = std::env::var(OUTPUT_WRITER).ok().and_then(|said| said.parse().ok());
    if said.is_none() || said != parent_process_id() {
        return false;
    }
    let mut requests = BufReader::new(io::stdin().lock());
    if let Ok(Some(files)) = recv::<OutputFiles>(&mut requests) {
        // An invalid request ends the output writer: the process that sent it no longer works as intended.
        let _ = serve(&files, &mut requests);
        let is_empty = |file: &&Path| file.symlink_metadata().is_ok_and(|found| found.is_file() && found.len() == 0);
        files.created().filter(is_empty).for_each(|file| drop(remove_own(file)));
    }
    true
}

fn serve(files: &OutputFiles, requests: &mut impl io::BufRead) -> io::Result<()> {
    let mut answers = io::stdout().lock();
    while let Some(request) = recv::<OutputRequest>(requests)? {
        let bytes = recv_bytes(requests, request.content_bytes)?;
        send(&mut answers, &OutputResponse::from(handle(files, &request, &bytes)), &[])?;
    }
    Ok(())
}

fn handle(files: &OutputFiles, request: &OutputRequest, bytes: &[u8]) -> io::Result<bool> {
    let path = Path::new(&request.path);
    let refused = || io::Error::from(io::ErrorKind::PermissionDenied);
    let is_allowed = |path: &Path| files.contains(path).then_some(()).ok_or_else(refused);
    is_allowed(path)?;
    match &request.action {
        OutputAction::WriteAtomically => keep_own(path, bytes).map(|()| true),
        OutputAction::Write { replaces: true } => put_file(path, bytes, Existing::Replaced),
        OutputAction::Write { replaces: false } => put_file(path, bytes, Existing::Stays),
        OutputAction::Rename { to } => {
            is_allowed(Path::new(to))?;
            rename_without_replacing(path, Path::new(to)).map(|()| true)
        }
        OutputAction::Remove => remove_own(path).map(|()| true),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn only_output_files_are_written_renamed_or_removed() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::write(at("own"), "a letter").unwrap();
        let mut files = OutputFiles::default();
        ["page.html", "stick.img.part", "stick.img"].iter().for_each(|name| files.add_file(&at(name)));
        files.add_suffixed_files(&at("label.svg"));
        let asked = |name: &str, action: OutputAction| {
            let request = OutputRequest { path: at(name).into(), action, content_bytes: 3 };
            handle(&files, &request, b"new")
        };
        let write = || OutputAction::Write { replaces: true };
        for name in [
            "own",
            "page.html2",
            "label.svg",
            "label-.svg",
            "label-a.png",
            "../label-a.svg",
            "label-a/b.svg",
            "xlabel-a.svg",
        ] {
            let refused = asked(name, write()).unwrap_err();
            assert_eq!(refused.kind(), io::ErrorKind::PermissionDenied, "{name}");
        }
        for action in
            [OutputAction::Remove, OutputAction::WriteAtomically, OutputAction::Rename { to: at("stick.img").into() }]
        {
            assert!(asked("own", action).is_err());
        }
        for name in ["page.html", "label-590J1.svg", "stick.img.part"] {
            assert!(asked(name, write()).unwrap(), "{name}");
        }
        assert!(!asked("page.html", OutputAction::Write { replaces: false }).unwrap(), "it is there already");
        assert!(asked("stick.img.part", OutputAction::Rename { to: at("own").into() }).is_err());
        assert!(asked("stick.img.part", OutputAction::Rename { to: at("stick.img").into() }).unwrap());
        assert!(asked("page.html", OutputAction::Remove).unwrap());
        let mut names: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        assert_eq!(names, ["label-590J1.svg", "own", "stick.img"]);
        assert_eq!(fs::read(at("own")).unwrap(), b"a letter");
    }

    #[test]
    fn truncated_or_oversized_requests_are_errors() {
        assert!(recv_bytes(&mut &b"ab"[..], 3).is_err() && recv_bytes(&mut &b"ab"[..], u64::MAX).is_err());
        assert!(recv::<OutputRequest>(&mut &b"{\"path\":"[..]).is_err());
        assert!(recv::<OutputRequest>(&mut &b""[..]).unwrap().is_none());
    }
}
