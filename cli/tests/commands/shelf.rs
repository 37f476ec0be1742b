use std::io::Write;
use std::os::unix::ffi::OsStrExt;

use pyrotyp_core::hash::{Algorithm, Hashers};
use pyrotyp_sample::cafe;

use super::bench::{Bench, DESKTOP, RESCUE, steady, tag_of};

/// The desktop image with its list, in a folder of its own.
fn bench() -> Bench {
    let bench = Bench::new().stick("a", "").stick("b", "");
    std::fs::create_dir(bench.path("downloads")).unwrap();
    let file = cafe::desktop().file;
    let mut hashers = Hashers::new([Algorithm::Sha256]);
    hashers.update(&DESKTOP);
    let list = format!("{}  {file}\n", hashers.finish()[0].hex);
    bench.file(&format!("downloads/{file}"), &DESKTOP).file("downloads/SHA256SUMS", list.as_bytes())
}

#[test]
fn images_are_kept_known_written_by_name_and_counted() {
    let bench = bench();
    let file = cafe::desktop().file;
    let mut told = vec![
        bench.pyrotyp("shelf"),
        bench
            .pyrotyp(&format!("shelf add downloads/{file} rescue.iso nowhere.iso"))
            .replace("copied, since the disk can't share bytes between files", "[HOW]")
            .replace("it shares its bytes with the file, which may be removed or changed", "[HOW]"),
        bench.pyrotyp("check larkspur"),
        bench.pyrotyp("check larkspur"),
    ];
    for name in ["a", "b"] {
        let tag = tag_of(&bench, name);
        let written = bench.on_tray(&format!("write larkspur --to {tag} --unattended --quiet"));
        assert!(written.starts_with("exit 0"), "{written}");
    }
    // Of a packed image the checksum of the file is not that of the stick.
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(&RESCUE).unwrap();
    let bench = bench.stick("c", "").file("wrenfield.iso.gz", &packed.finish().unwrap());
    bench.pyrotyp("shelf add wrenfield.iso.gz --move");
    bench.pyrotyp("check wrenfield");
    bench.on_tray(&format!("write wrenfield --to {} --unattended --quiet", tag_of(&bench, "c")));
    told.push(bench.pyrotyp("shelf"));
    told.push(bench.pyrotyp("shelf verify"));
    told.push(bench.pyrotyp("shelf add rescue.iso"));
    steady().bind(|| insta::assert_snapshot!("kept", told.join("\n")));
}

#[test]
fn what_changes_on_the_disk_is_found_and_what_is_old_goes_only_when_told_to() {
    let bench = bench();
    bench.pyrotyp("shelf add rescue.iso --move");
    assert!(!bench.path("rescue.iso").exists());
    bench.pyrotyp("check rescue");
    let index = bench.path(".local/state/pyrotyp/shelf/shelf.toml");
    let on_shelf = bench.path(".local/state/pyrotyp/shelf/rescue.iso");
    let mut told = vec![bench.pyrotyp("shelf prune")];
    let aged = years_ago(&std::fs::read_to_string(&index).unwrap());
    std::fs::write(&index, aged).unwrap();
    told.push(bench.pyrotyp("shelf prune"));
    let mut spoilt = RESCUE.to_vec();
    spoilt[4_000_000] ^= 1;
    std::fs::write(&on_shelf, spoilt).unwrap();
    told.push(bench.pyrotyp("shelf verify rescue"));
    std::fs::remove_file(&index).unwrap();
    told.push(bench.pyrotyp("shelf"));
    told.push(bench.pyrotyp("shelf remove resc"));
    told.push(bench.pyrotyp("shelf remove rescue"));
    assert!(!on_shelf.exists());
    steady().bind(|| insta::assert_snapshot!("aged", told.join("\n")));
    bench.pyrotyp(&format!("shelf add downloads/{}", cafe::desktop().file));
    let went = bench.pyrotyp("shelf prune --older 0 --go");
    assert!(went.contains("removed: 1 image") && bench.pyrotyp("shelf").contains("the shelf is empty"), "{went}");
    assert!(
        bench.path(&format!("downloads/{}", cafe::desktop().file)).exists(),
        "the file that was added is the person's"
    );
}

#[test]
fn an_image_of_the_shelf_that_is_not_what_it_was_is_never_written() {
    let bench = bench();
    bench.pyrotyp("shelf add rescue.iso");
    bench.pyrotyp("check rescue");
    let on_shelf = bench.path(".local/state/pyrotyp/shelf/rescue.iso");
    let write = || {
        bench.on_tray(&format!(
            "write rescue --to {} --unattended --quiet --state .local/state/pyrotyp",
            tag_of(&bench, "a")
        ))
    };
    // What is changed elsewhere is not changed here.
    std::fs::write(bench.path("rescue.iso"), "other").unwrap();
    assert_eq!(std::fs::read(&on_shelf).unwrap(), *RESCUE);
    let before = std::fs::metadata(&on_shelf).unwrap().modified().unwrap();
    let mut spoilt = RESCUE.to_vec();
    spoilt[4_000_000] ^= 1;
    std::fs::write(&on_shelf, &spoilt).unwrap();
    // Its time is set back, as a program may that wants not to be noticed.
    std::fs::File::options().write(true).open(&on_shelf).unwrap().set_modified(before).unwrap();
    let mut told = vec![write(), write(), bench.pyrotyp("shelf")];
    assert!(!bench.was_touched("a"));
    std::fs::write(&on_shelf, &*RESCUE).unwrap();
    told.push(bench.pyrotyp("shelf verify rescue"));
    assert!(write().starts_with("exit 0"));
    for name in ["half.iso.part", "shelf.toml", ".hidden.iso"] {
        std::fs::write(bench.path(name), &*RESCUE).unwrap();
        told.push(bench.pyrotyp(&format!("shelf add {name}")));
    }
    let strange = std::ffi::OsStr::from_bytes(b"wren\xFFfield.iso");
    std::fs::write(bench.path("").join(strange), &*RESCUE).unwrap();
    told.push(bench.tell(&bench.command("shelf add").arg(strange).output().unwrap()));
    // What is moved there is the shelf's own: no link, and no second name of somebody's file.
    let moved = |name: &str| bench.path(".local/state/pyrotyp/shelf").join(name);
    std::os::unix::fs::symlink(bench.path("half.iso.part"), bench.path("link.iso")).unwrap();
    std::fs::hard_link(bench.path("half.iso.part"), bench.path("second.iso")).unwrap();
    for name in ["link.iso", "second.iso"] {
        assert!(bench.pyrotyp(&format!("shelf add {name} --move")).starts_with("exit 0"));
        assert!(std::fs::symlink_metadata(moved(name)).unwrap().is_file() && !bench.path(name).exists());
    }
    std::fs::write(bench.path("half.iso.part"), "other").unwrap();
    assert!(["link.iso", "second.iso"].iter().all(|name| std::fs::read(moved(name)).unwrap() == *RESCUE));
    steady().bind(|| insta::assert_snapshot!("damaged", told.join("\n")));
}

/// The index as it was years ago.
fn years_ago(text: &str) -> String {
    let old = |line: &str| {
        let (key, _) = line.split_once(" = \"").unwrap_or((line, ""));
        if matches!(key, "added" | "checked") { format!("{key} = \"2019-11-23T08:00:00Z\"") } else { line.to_owned() }
    };
    text.lines().map(old).collect::<Vec<_>>().join("\n")
}

#[test]
fn an_old_release_and_a_newer_one_on_the_shelf_are_said_wherever_the_image_is_looked_at() {
    let bench = bench();
    let newer = {
        let mut image = cafe::desktop();
        image.recipe.files[0].bytes = b"Larkspur Linux 9.3 Desktop (64-bit), long-term release\n".to_vec();
        image.build()
    };
    let bench = bench.file("larkspur-9.3-desktop.iso", &newer);
    let state = bench.path(".local/state/pyrotyp");
    std::fs::create_dir_all(&state).unwrap();
    let old = cafe::catalogue("http://127.0.0.1:9", "x\nx").replace("2036-04-30", "2026-01-31");
    std::fs::write(state.join("catalogue.toml"), old).unwrap();
    let path = format!("downloads/{}", cafe::desktop().file);
    let mut told = vec![bench.pyrotyp(&format!("inspect {path}"))];
    bench.pyrotyp(&format!("shelf add larkspur-9.3-desktop.iso {path}"));
    told.push(bench.pyrotyp("shelf"));
    told.push(bench.at_terminal(&format!("write {path} --to {}", tag_of(&bench, "a")), "no\n"));
    steady().bind(|| insta::assert_snapshot!("old", told.join("\n")));
}
