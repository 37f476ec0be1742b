use std::io::Read;
use std::process::{Command, Stdio};
use std::time::Duration;

use super::bench::{Bench, steady, tag_of};
use pyrotyp_sample::cafe;

#[test]
fn what_comes_is_told_until_told_to_stop_and_every_rule_is_explained() {
    let bench = Bench::new().stick("a", "").stick("late", "appears_after_ms = 900\ncould_be_faster = true");
    let watched = |json: &str| {
        let program = bench.command(&format!("drives --watch --tray tray {json}"));
        let mut timed = std::process::Command::new("timeout");
        // In the foreground it signals the program alone; else the group too, and the program would hear it twice.
        timed
            .args(["--foreground", "--preserve-status", "--signal=INT", "3"])
            .arg(program.get_program())
            .args(program.get_args());
        timed.current_dir(bench.path(".")).env_clear().env("TZ", "UTC").env("PATH", "/usr/bin:/bin");
        bench.tell(&timed.output().unwrap())
    };
    let mut settings = insta::Settings::clone_current();
    settings.add_filter(r"\d\d:\d\d:\d\d", "[TIME]");
    settings.bind(|| {
        insta::assert_snapshot!(watched(""), @"
        exit 0
        [TIME]  attached  590J1  stick, Kestrin Pocket, 50.3 MB, USB 480 Mb/s, tray:a
               holds data of no kind that is known here
        [TIME]  arrived   Y4HFV  stick, Kestrin Pocket, 50.3 MB, USB 480 Mb/s, tray:late
               it could be several times faster: it is plugged into a USB 2 port or hub
               holds data of no kind that is known here
        -- standard error:
        waiting for drives to come and go; Ctrl-C ends it
        ")
    });
    let events: Vec<String> = watched("--json")
        .lines()
        .filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok())
        .map(|event| format!("{} {}", event["event"].as_str().unwrap(), event["drive"]["path"].as_str().unwrap()))
        .collect();
    assert_eq!(events, ["attached tray:a", "arrived tray:late"]);
    insta::assert_snapshot!(bench.pyrotyp("drives --explain"), @"
    exit 0
    about drives
      stop  system-disk           the running system needs the drive: root, boot, home or swap
      stop  partition-given       a partition was named in place of its drive
      stop  no-proof              nobody confirms the drive, and it was not named by a tag that is its alone
      stop  image-on-target       the image itself lies on the drive
      stop  bench-on-target       the shelf, the records or the settings of this bench lie on the drive
      stop  protected             the drive is on the bench's list of protected ones
      stop  in-use                a volume is mounted on purpose, or the drive is part of something larger that runs
      stop  no-medium             the reader's slot is empty
      stop  write-protected       the drive refuses to be written
      stop  too-small             the image does not fit
      ask   internal-disk         the drive is inside the PC
      ask   external-disk         a disk on USB: not removable, or far larger than a stick
      ask   virtual-drive         a loop device or the like
      ask   part-of-group         it is a member of something larger, to which other drives belong
      ask   held-open             a program has the drive open
      ask   use-unknown           what something that the system needs lies on can't be told; as a note: which programs have the drive open
      ask   sector-size           the drive's sectors are not of the size for which the image is laid out
      ask   fresh-name            it was named by a kernel name that it was given seconds ago
      ask   just-verified         an earlier job has verified it within the last half hour
      note  unfinished-job        the last job on the drive was begun and did not end
      note  restore-pending       an interrupted quick test may have left test data on the drive
      note  no-serial             the drive has no serial number of its own, so that its tag may fit others
      note  mounted               the desktop mounted a volume, which the job will unmount
      note  slow-port             the drive could be faster than the port or hub that it is plugged into
      note  far-larger            the drive is far larger than the image needs
      note  others-attached       other drives are attached that could be meant
      note  has-data              there is something on the drive
    about images
      ask   unfinished-download   the file's name is that of a download under way
      ask   needs-laying-out      the image's files must be laid out on a FAT stick
      ask   optical-only          the image starts from an optical disc only
      ask   bare-filesystem       the image is a file system without a partition table
      ask   no-sound-table        neither copy of the image's GPT is sound, and a BIOS may start it all the same
      ask   nothing-to-start      the image holds data only
      note  out-of-support        by the catalogue, the image's release is no longer supported
      note  newer-release         a newer release is on the shelf or in the catalogue
    stop: no option lifts it. ask: --accept ID lifts it. note: it stands in nobody's way.
    ");
}

#[test]
fn the_cafes_bench_is_listed_with_what_speaks_against_each_drive() {
    let bench = Bench::new().tray(cafe::TRAY);
    insta::assert_snapshot!(bench.on_tray("drives"), @r#"
    exit 0
    TAG    ROLE      DRIVE           SIZE     LINK          PATH
    DBR7J  stick     Kestrin Pocket  16.0 GB  USB 5 Gb/s    tray:kestrin-a
           it is in use at /media/bench/HOLIDAY, and the job will unmount it
           holds "HOLIDAY" (fat32, 16.0 GB)
    65387  stick     Kestrin Pocket  16.0 GB  USB 480 Mb/s  tray:kestrin-b
    NX2T8  stick     Kestrin Pocket  2.0 GB   USB 480 Mb/s  tray:kestrin-old
    AGCHS  external  Odalen Vault    1.0 TB   USB 5 Gb/s    tray:odalen
           external-disk: this is a disk on USB, not a stick: probably one with somebody's files
           holds "cafe-backups" (ext4, 1.0 TB)
    2 more drives are attached that can't be chosen: pyrotyp drives --tray tray --all
    next: pyrotyp write --tray tray IMAGE --to TAG
    "#);
    insta::assert_snapshot!(bench.on_tray("drives --all --verbose"), @r#"
    exit 0
    TAG    ROLE      DRIVE                 SIZE     LINK          PATH
    DBR7J  stick     Kestrin Pocket        16.0 GB  USB 5 Gb/s    tray:kestrin-a
           it is in use at /media/bench/HOLIDAY, and the job will unmount it
           holds "HOLIDAY" (fat32, 16.0 GB)
           serial KP16-004417
    65387  stick     Kestrin Pocket        16.0 GB  USB 480 Mb/s  tray:kestrin-b
           serial KP16-004982
    NX2T8  stick     Kestrin Pocket        2.0 GB   USB 480 Mb/s  tray:kestrin-old
           serial KP2-000093
    AGCHS  external  Odalen Vault          1.0 TB   USB 5 Gb/s    tray:odalen
           external-disk: this is a disk on USB, not a stick: probably one with somebody's files
           holds "cafe-backups" (ext4, 1.0 TB)
           serial OV1T-77120
    K29Z?  card      Brell SD Card Reader  no card  USB 480 Mb/s  tray:brell
           no-medium: there is no card in the reader
           serial BR-20260117
    7EKAZ  system    Marrow NV2            512 GB   NVMe          tray:marrow
           system-disk: this system runs from it (/boot/efi, /)
           holds an unnamed volume (fat32, 537 MB), "bench" (ext4, 512 GB)
           serial MNV2-51200831
    next: pyrotyp write --tray tray IMAGE --to TAG
    "#);
    let told = bench.on_tray("drives --json");
    insta::assert_snapshot!(told.split("\n  },").next().unwrap(), @r#"
    exit 0
    [
      {
        "tag": "DBR7J",
        "path": "tray:kestrin-a",
        "links": [],
        "vendor": "Kestrin",
        "model": "Pocket",
        "serial": "KP16-004417",
        "bytes": 16008609792,
        "sector_bytes": 512,
        "bus": "usb",
        "link_mbps": 5000,
        "could_be_faster": false,
        "removable": true,
        "role": "stick",
        "findings": [
          {
            "id": "mounted",
            "level": "note",
            "text": "it is in use at /media/bench/HOLIDAY, and the job will unmount it",
            "next": ""
          },
          {
            "id": "has-data",
            "level": "note",
            "text": "holds \"HOLIDAY\" (fat32, 16.0 GB)",
            "next": ""
          }
        ],
        "partitions": [
          {
            "number": 1,
            "bytes": 16007561216,
            "filesystem": "fat32",
            "label": "HOLIDAY",
            "mounted_at": "/media/bench/HOLIDAY"
          }
        ],
        "whole": null,
        "surface": "empty"
    "#);
}

#[test]
fn an_empty_bench_and_a_wrong_descriptor_are_told() {
    let bench = Bench::new();
    insta::assert_snapshot!(bench.on_tray("drives"), @"
    exit 0
    no drive is attached that could be written
    ");
    insta::assert_snapshot!(bench.pyrotyp("drives --tray nowhere"), @"
    exit 2
    -- standard error:
    pyrotyp: can't read nowhere/tray.toml: No such file or directory
       next: check that it is there and may be read, then run the same command again
    ");
    let bench = bench.tray("[[drive]]\nname = 5\n");
    insta::assert_snapshot!(bench.on_tray("drives"), @"
    exit 2
    -- standard error:
    pyrotyp: the tray descriptor tray/tray.toml is wrong: line 2: invalid type: integer `5`, expected a string
       next: correct the descriptor, then run the same command again
    ");
}

#[test]
fn a_drive_that_was_written_shows_what_is_on_it_now() {
    let bench = Bench::new().stick("a", "");
    let tag = super::bench::tag_of(&bench, "a");
    bench.on_tray(&format!("write rescue.iso --to {tag} --unattended"));
    insta::assert_snapshot!(bench.on_tray("drives"), @r#"
    exit 0
    TAG    ROLE   DRIVE           SIZE     LINK          PATH
    590J1  stick  Kestrin Pocket  50.3 MB  USB 480 Mb/s  tray:a
           just-verified: an earlier job has verified it less than a minute ago: it may belong to the finished ones
           holds "WRENFIELD_RESCUE_3" (iso9660), "START" (fat12, 2.1 MB)
    next: pyrotyp write --tray tray IMAGE --to TAG
    "#);
}

#[test]
fn what_the_bench_knows_of_a_drive_stands_in_the_way() {
    let bench = Bench::new()
        .stick("a", "")
        .stick("b", "[[drive.partition]]\nnumber = 1\nbytes = 1_000_000\nmounted_at = \"BENCH\"");
    let mounted = std::fs::read_to_string(bench.path("tray/tray.toml")).unwrap();
    let shelf =
        bench.path(".local/state/pyrotyp").canonicalize().unwrap_or_else(|_| bench.path(".local/state/pyrotyp"));
    std::fs::create_dir_all(&shelf).unwrap();
    let mounted = mounted.replace("BENCH", &format!("{}", shelf.canonicalize().unwrap().display()));
    std::fs::write(bench.path("tray/tray.toml"), mounted).unwrap();
    // What lies on the file goes before what the descriptor says.
    std::fs::remove_file(bench.path("tray/b.img")).unwrap();
    let (a, b) = (tag_of(&bench, "a"), tag_of(&bench, "b"));
    let write =
        |tag: &str, more: &str| bench.on_tray(&format!("write rescue.iso --to {tag} --unattended --quiet {more}"));
    let mut told = vec![write(&b, "--accept bench-on-target")];
    assert!(write(&a, "").starts_with("exit 0"));
    told.push(write(&a, ""));
    assert!(write(&a, "--accept just-verified").starts_with("exit 0"));
    std::fs::create_dir_all(bench.path(".config/pyrotyp")).unwrap();
    let settings = bench.path(".config/pyrotyp/settings.toml");
    for text in [format!("protect = [\"{a}\"]"), "protect = [\"no tag\"]".into(), "protected = []".into()] {
        std::fs::write(&settings, text).unwrap();
        told.push(write(&a, "--accept protected --accept just-verified"));
    }
    insta::assert_snapshot!("known_to_the_bench", told.join("\n"));
}

#[test]
fn what_is_on_a_drive_is_shown_before_it_is_lost() {
    let bench = Bench::new().stick("a", "").stick("b", "").stick("blank", "");
    let written = bench.on_tray(&format!("write rescue.iso --to {} --unattended --quiet", tag_of(&bench, "a")));
    assert!(written.starts_with("exit 0"), "{written}");
    let mut tool = std::process::Command::new("/sbin/mke2fs");
    tool.args(["-q", "-F", "-t", "ext4", "-L", "cafe-backups", "-d"]);
    std::fs::create_dir_all(bench.path("top/Pictures")).unwrap();
    std::fs::write(bench.path("top/accounts.ods"), "1234").unwrap();
    let made = tool.args([bench.path("top"), bench.path("tray/b.img")]).arg("16M").output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    std::fs::write(bench.path("tray/blank.img"), vec![0; 1 << 20]).unwrap();
    let mut told: Vec<String> =
        ["a", "b", "blank"].map(|name| bench.on_tray(&format!("contents {}", tag_of(&bench, name)))).into();
    told.push(bench.on_tray(&format!("contents {} --json", tag_of(&bench, "b"))));
    told.push(bench.on_tray("contents nothing"));
    let mut settings = steady();
    settings.add_filter(r"\d{4}-\d\d-\d\d", "[DAY]");
    settings.add_filter(r"\[DAY\]T[\d:]+", "[WHEN]");
    settings.add_filter(r#"[\d.]+ MB of it used|"used_bytes": \d+"#, "[USED]");
    settings.bind(|| insta::assert_snapshot!("contents", told.join("\n")));
}

#[test]
fn a_drive_is_told_by_its_port_and_by_its_light_and_is_not_written() {
    let bench = Bench::new().stick("a", "port = \"1-2.3\"");
    let tag = tag_of(&bench, "a");
    let told = bench.on_tray("drives --quiet");
    assert!(told.contains("in bus 1, hub in socket 2, socket 3"), "{told}");
    assert_eq!(bench.json("drives --tray tray")[0]["port"], "1-2.3");
    let mut child = bench.command(&format!("drives --blink {tag} --tray tray")).stderr(Stdio::piped()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(900));
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    assert!(child.wait().unwrap().success() && said.contains("look for its light"), "{said}");
    assert!(!bench.was_touched("a"));
    let failing = Bench::new().stick("a", "[[drive.fault]]\nkind = \"read-error\"\nat = 0\nbytes = 4096\n");
    assert!(failing.on_tray(&format!("drives --blink {tag}")).starts_with("exit 6"));
    assert!(failing.on_tray("drives --blink 00000").starts_with("exit 5"));
}
