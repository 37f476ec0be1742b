//! The output writer's side: it makes the files that it was started for, and ends with the process that started it.

use std::io::{self, BufReader};
use std::path::Path;

use super::file::{Existing, keep_own, publish, put_file, remove_own};
use super::outputs::{OUTPUT_WRITER, OutputAction, OutputAnswer, OutputFiles, OutputRequest, hear, hear_bytes, say};
use super::system::parent_process;

/// Works as an output writer until nothing more is asked, if this process was started as one. Returns whether it was.
///
/// To be called before anything else.
pub fn write_outputs() -> bool {
    let said = std::env::var(OUTPUT_WRITER).ok().and_then(|said| said.parse().ok());
    if said.is_none() || said != parent_process() {
        return false;
    }
    let mut requests = BufReader::new(io::stdin().lock());
    if let Ok(Some(files)) = hear::<OutputFiles>(&mut requests) {
        // A broken line is the end as well.
        let _ = serve(&files, &mut requests);
        let is_empty = |file: &&Path| file.symlink_metadata().is_ok_and(|found| found.is_file() && found.len() == 0);
        files.begun().filter(is_empty).for_each(|file| drop(remove_own(file)));
    }
    true
}

fn serve(files: &OutputFiles, requests: &mut impl io::BufRead) -> io::Result<()> {
    let mut answers = io::stdout().lock();
    while let Some(request) = hear::<OutputRequest>(requests)? {
        let bytes = hear_bytes(requests, request.bytes)?;
        say(&mut answers, &OutputAnswer::of(make(files, &request, &bytes)), &[])?;
    }
    Ok(())
}

fn make(files: &OutputFiles, request: &OutputRequest, bytes: &[u8]) -> io::Result<bool> {
    let path = Path::new(&request.path);
    let refused = || io::Error::from(io::ErrorKind::PermissionDenied);
    let is_allowed = |path: &Path| files.allow(path).then_some(()).ok_or_else(refused);
    is_allowed(path)?;
    match &request.action {
        OutputAction::Keep => keep_own(path, bytes).map(|()| true),
        OutputAction::Put { replaces: true } => put_file(path, bytes, Existing::Replaced),
        OutputAction::Put { replaces: false } => put_file(path, bytes, Existing::Stays),
        OutputAction::Publish(name) => {
            is_allowed(Path::new(name))?;
            publish(path, Path::new(name)).map(|()| true)
        }
        OutputAction::Remove => remove_own(path).map(|()| true),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn only_the_files_of_the_command_are_made_named_or_removed() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::write(at("own"), "somebody's").unwrap();
        let mut files = OutputFiles::default();
        ["page.html", "stick.img.part", "stick.img"].iter().for_each(|name| files.add(&at(name)));
        files.add_variants(&at("label.svg"));
        let asked = |name: &str, action: OutputAction| {
            let request = OutputRequest { path: at(name).into(), action, bytes: 3 };
            make(&files, &request, b"new")
        };
        let put = || OutputAction::Put { replaces: true };
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
            let refused = asked(name, put()).unwrap_err();
            assert_eq!(refused.kind(), io::ErrorKind::PermissionDenied, "{name}");
        }
        for action in [OutputAction::Remove, OutputAction::Keep, OutputAction::Publish(at("stick.img").into())] {
            assert!(asked("own", action).is_err());
        }
        for name in ["page.html", "label-590J1.svg", "stick.img.part"] {
            assert!(asked(name, put()).unwrap(), "{name}");
        }
        assert!(!asked("page.html", OutputAction::Put { replaces: false }).unwrap(), "it is there already");
        assert!(asked("stick.img.part", OutputAction::Publish(at("own").into())).is_err());
        assert!(asked("stick.img.part", OutputAction::Publish(at("stick.img").into())).unwrap());
        assert!(asked("page.html", OutputAction::Remove).unwrap());
        let mut names: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        assert_eq!(names, ["label-590J1.svg", "own", "stick.img"]);
        assert_eq!(fs::read(at("own")).unwrap(), b"somebody's");
    }

    #[test]
    fn a_request_that_is_too_long_or_cut_off_is_none() {
        assert!(hear_bytes(&mut &b"ab"[..], 3).is_err() && hear_bytes(&mut &b"ab"[..], u64::MAX).is_err());
        assert!(hear::<OutputRequest>(&mut &b"{\"path\":"[..]).is_err());
        assert!(hear::<OutputRequest>(&mut &b""[..]).unwrap().is_none());
    }
}
