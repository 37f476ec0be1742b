//! What comes from outside is shown, and takes nothing over: every command at a terminal, with names that try to.

use std::io::Write;

use pyrotyp_core::text::foreign::is_harmful;
use pyrotyp_sample::cafe;

use super::bench::{Bench, listed, tag_of};

/// Clears the screen, fills the clipboard, turns the direction of writing, and begins a line of its own.
const EVIL: &str = "x\u{1b}[2J\u{1b}]52;c;QQ==\u{7}\u{202e}\u{9b}1m\u{200b}\r\nFORGED: SHA-256 matches";

/// The same as it stands in TOML and JSON.
fn escaped() -> String {
    let escape =
        |c: char| if c.is_ascii_graphic() || c == ' ' { c.to_string() } else { format!("\\u{:04x}", c as u32) };
    EVIL.chars().map(escape).collect()
}

fn zip_of(names: &[&str]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for name in names {
        zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(b"hello").unwrap();
    }
    zip.finish().unwrap().into_inner()
}

#[test]
fn no_name_from_outside_reaches_a_terminal_as_it_is() {
    let evil = escaped();
    let drive = format!(
        "[[drive]]\nname = \"evil\"\nvendor = \"{evil}\"\nmodel = \"{evil}\"\nserial = \"S-{evil}\"\nbytes = 50331648\nbus = \"usb\"\n\
         removable = true\nopened_by = \"{evil}\"\n[[drive.partition]]\nnumber = 1\nbytes = 4096\nfilesystem = \"{evil}\"\nlabel = \"{evil}\"\n\
         mounted_at = \"/media/{evil}\"\n"
    );
    let held = "[[drive]]\nname = \"held\"\nserial = \"S-2\"\nbytes = 50331648\nbus = \"usb\"\nremovable = true\nheld_by = \"EVIL\"\n";
    let mut image = cafe::desktop();
    image.recipe.files[0].bytes = EVIL.as_bytes().to_vec();
    let image = image.build();
    let name = format!("lark{EVIL}.iso");
    let list = format!("{}  {}\n", "0".repeat(64), name.replace('\r', "\\r").replace('\n', "\\n"));
    let bench = Bench::new()
        .tray(&drive)
        .tray(&held.replace("EVIL", &evil))
        .stick("a", "")
        .file(&name, &image)
        .file(&format!("{name}.sha256"), format!("\\{list}").as_bytes())
        .file("several.zip", &zip_of(&[&format!("{EVIL}.iso"), "b.iso"]));
    let state = bench.path(".local/state/pyrotyp");
    std::fs::create_dir_all(state.join("jobs")).unwrap();
    std::fs::create_dir_all(state.join("shelf")).unwrap();
    let (evil_tag, held_tag, a) = (tag_of(&bench, "evil"), tag_of(&bench, "held"), tag_of(&bench, "a"));
    let on = |name: &str| {
        let mut drive = listed(&bench, name);
        drive["result"] = "verified".into();
        drive
    };
    let image = serde_json::json!({"file": evil, "label": evil, "sha256": evil});
    let record = serde_json::json!({"started": evil, "ended": null, "result": "verified", "image": image,
        "drives": [on("a"), on("evil")]});
    std::fs::write(state.join("jobs/20261123-080000-590J0.json"), record.to_string().replace("verified", &evil))
        .unwrap();
    let record = record.to_string();
    std::fs::write(state.join("jobs/20261123-080000-590J1.json"), record).unwrap();
    let catalogue = cafe::catalogue("http://127.0.0.1:9", "x\nx").replace("Wrenfield", &evil);
    let bench =
        bench.file("catalogue.toml", catalogue.as_bytes()).file("broken.toml", format!("[[\"{evil}\"]]\n").as_bytes());
    let commands = [
        "inspect lark*.iso several.zip".to_owned(),
        "inspect lark*.iso rescue.iso".into(),
        "inspect lark*.iso --json".into(),
        "check lark*.iso".into(),
        "check lark*.iso --json".into(),
        "drives --all --verbose".into(),
        "drives --all --json".into(),
        format!("contents {a}"),
        format!("contents {evil_tag} --json"),
        format!("write lark*.iso --to {evil_tag}"),
        format!("write lark*.iso --to {held_tag}"),
        format!("write several.zip --to {a}"),
        format!("write rescue.iso --to {evil_tag} --accept held-open"),
        format!("write rescue.iso --to {a} --unattended"),
        format!("compare {a} lark*.iso"),
        "shelf add lark*.iso several.zip".into(),
        "shelf".into(),
        "shelf --json".into(),
        "shelf verify lark".into(),
        "fetch nothing like that --catalogue catalogue.toml".into(),
        "fetch nothing --catalogue broken.toml".into(),
        "fetch http://127.0.0.1:9/lark*.iso".into(),
        "drives --explain".into(),
    ];
    let (all, mut named) = (commands.len(), 0);
    for command in commands {
        let told = bench.at_terminal(&command, "no\n");
        // Colours are ours; whatever else a terminal obeys is not.
        let plain = anstream::adapter::strip_str(&told).to_string();
        for (text, what) in [(&told, "as it is"), (&plain, "without colours")] {
            let mut bad = text.chars().filter(|c| is_harmful(*c) && !matches!(c, '\n' | '\u{1b}'));
            assert_eq!(bad.next(), None, "{command}, {what}: {told:?}");
        }
        assert!(!told.contains("\u{1b}]") && !told.contains("\u{1b}[2J"), "{command}: {told:?}");
        assert!(!told.lines().any(|line| line.trim_start().starts_with("FORGED")), "{command}: {told}");
        named += usize::from(told.contains("FORGED"));
    }
    // Most of them name what they should not obey.
    assert!(named + 6 >= all, "{named} of {all}");
    // What can't be written is told in words.
    let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
    let mut command = bench.command("drives --explain");
    let told = bench
        .tell(&command.stdout(full).stderr(std::process::Stdio::piped()).spawn().unwrap().wait_with_output().unwrap());
    insta::assert_snapshot!(told, @"
    exit 1
    -- standard error:
    pyrotyp: can't write the result: No space left on device
       next: check where it goes
    ");
}
