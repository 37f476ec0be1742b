use std::io::Write as _;
use std::net::TcpListener;
use std::os::unix::fs::{MetadataExt, chown};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use pyrotyp_core::hash::{Algorithm, Hashers};
use pyrotyp_sample::cafe;
use pyrotyp_sample::mirror::Mirror;

use super::bench::{Bench, DESKTOP, RESCUE, steady, tag_of};

const FILE: &str = "wrenfield-rescue-3.iso";

/// A bench, and a server that hands out its folder `served`.
struct Online {
    bench: Bench,
    server: Mirror,
    base: String,
}

fn sum(bytes: &[u8], algorithm: Algorithm) -> String {
    let mut hashers = Hashers::new([algorithm]);
    hashers.update(bytes);
    hashers.finish().remove(0).hex
}

impl Online {
    fn new() -> Self {
        let bench = Bench::new();
        std::fs::create_dir(bench.path("served")).unwrap();
        std::fs::create_dir(bench.path("here")).unwrap();
        let bench = bench.file(&format!("served/{FILE}"), &RESCUE);
        let server = Mirror::new(&bench.path("served"));
        let base = format!("http://{}", server.start().unwrap());
        Self { bench, server, base }
    }

    /// The list of checksums, signed.
    fn with_list(self) -> Self {
        let list = format!("{}  {FILE}\n", sum(&RESCUE, Algorithm::Sha256));
        let signed = pyrotyp_sample::sign(list.as_bytes());
        let bench = self.bench.file("served/SHA256SUMS", list.as_bytes());
        let bench =
            bench.file("served/SHA256SUMS.sig", signed.signature.as_bytes()).file("key.pub", signed.key.as_bytes());
        Self { bench, ..self }
    }

    fn at(&self, manner: &str) -> String {
        format!("{}/{manner}/{FILE}", self.base)
    }

    /// A Metalink file with these mirrors, `image.meta4`.
    fn metalink(&self, manners: &[&str], piece: usize) -> String {
        let urls = manners
            .iter()
            .zip(1..)
            .map(|(manner, priority)| format!("<url priority='{priority}'>{}</url>", self.at(manner)));
        let pieces = RESCUE.chunks(piece).map(|piece| format!("<hash>{}</hash>", sum(piece, Algorithm::Sha256)));
        let text = format!(
            "<metalink xmlns='urn:ietf:params:xml:ns:metalink'><file name='{FILE}'><size>{}</size>
            <hash type='sha-256'>{}</hash><pieces type='sha-256' length='{piece}'>{}</pieces>{}</file></metalink>",
            RESCUE.len(),
            sum(&RESCUE, Algorithm::Sha256),
            pieces.collect::<String>(),
            urls.collect::<String>()
        );
        std::fs::write(self.bench.path("image.meta4"), text).unwrap();
        "image.meta4".to_owned()
    }

    fn fetch(&self, words: &str) -> String {
        self.bench.pyrotyp(&format!("fetch {words} --into here --wait 1"))
    }

    fn start(&self, words: &str) -> Child {
        let mut command = self.bench.command(&format!("fetch {words} --into here"));
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// Whether the image is there whole; takes it away again.
    fn take_equal(&self) -> bool {
        let path = self.bench.path(&format!("here/{FILE}"));
        let is_equal = std::fs::read(&path).is_ok_and(|bytes| bytes == *RESCUE);
        std::fs::remove_dir_all(self.bench.path("here")).unwrap();
        std::fs::create_dir(self.bench.path("here")).unwrap();
        is_equal
    }
}

#[test]
fn a_fetched_image_is_checked_with_what_lies_beside_it_and_put_on_the_shelf() {
    let online = Online::new().with_list();
    let fetched = online.bench.pyrotyp(&format!("fetch {} --key key.pub", online.at("steady")));
    let again = online.bench.pyrotyp(&format!("fetch {}", online.at("steady")));
    let blind = {
        let blind = Online::new();
        blind.bench.pyrotyp(&format!("fetch {}", blind.at("plain")))
    };
    let json = online.bench.pyrotyp(&format!("fetch {} --json --quiet --into here", online.at("steady")));
    steady().bind(|| insta::assert_snapshot!("fetched", [fetched, again, blind, json].join("\n")));
}

#[test]
fn a_password_in_an_address_is_neither_shown_nor_kept() {
    let online = Online::new().with_list();
    let online = Online { bench: online.bench.stick("a", ""), ..online };
    let secret = |manner: &str| online.at(manner).replace("http://", "http://ann:PASSW0RD@") + "?token=T0KEN#SECTI0N";
    let bench = &online.bench;
    let a = tag_of(bench, "a");
    let mut told = Vec::new();
    let to_shelf = format!("fetch {} --state notes --wait 1 --log fetch.log -v", secret("steady"));
    told.push(bench.pyrotyp(&to_shelf));
    assert!(told[0].starts_with("exit 0"), "{told:?}");
    told.push(bench.pyrotyp(&format!("{to_shelf} --json --catalogue={}", secret("steady"))));
    for manner in ["gone", "wrong-9", "breaks-1"] {
        told.push(
            bench
                .pyrotyp(&format!("fetch {} --into here --wait 1 --state notes --log {manner}.log -v", secret(manner))),
        );
    }
    told.push(
        bench.on_tray(&format!("fetch {} --straight-to {a} --unattended --state notes --wait 1", secret("steady"))),
    );
    for words in
        ["shelf --json", "shelf", "ledger --json", "ledger show last", "ledger show last --json", "shelf verify"]
    {
        told.push(bench.pyrotyp(&format!("{words} --state notes")));
    }
    told.push(bench.pyrotyp("ledger report last --into page.html --state notes"));
    let mut kept = vec![bench.path("notes"), bench.path("here"), bench.path("page.html")];
    kept.extend(["fetch", "gone", "wrong-9", "breaks-1"].map(|log| bench.path(&format!("{log}.log"))));
    for place in kept {
        let secrets = ["PASSW0RD", "T0KEN", "SECTI0N"].map(|secret| ["-e", secret]).concat();
        let found = Command::new("grep").args(["-raH"]).args(secrets).arg(&place).output().unwrap();
        // Nothing was found, and all could be read.
        assert_eq!(found.status.code(), Some(1), "{}", String::from_utf8_lossy(&found.stdout));
    }
    for told in told {
        assert!(!["PASSW0RD", "T0KEN", "SECTI0N"].iter().any(|secret| told.contains(secret)), "{told}");
    }
}

#[test]
fn a_line_that_breaks_at_any_place_and_a_program_that_is_killed_cost_only_time() {
    let online = Online::new().with_list();
    for at in pyrotyp_sample::noise(40, 3).chunks(2).map(|pair| u64::from(pair[0]) << 14 | u64::from(pair[1]) << 6) {
        let told = online.fetch(&online.at(&format!("breaks-{}", at.max(300_000))));
        assert!(told.starts_with("exit 0"), "broken off after {at}: {told}");
        assert!(online.take_equal());
    }
    let before = online.server.asked().len();
    for _ in 0..5 {
        let mut child = online.start(&online.at("slow-3000000"));
        std::thread::sleep(Duration::from_millis(700));
        // Not asked to stop: ended, as a power cut would.
        child.kill().unwrap();
        child.wait().unwrap();
    }
    assert!(online.fetch(&online.at("steady")).starts_with("exit 0"));
    assert!(online.take_equal() && online.server.asked().len() > before + 5);
}

#[test]
fn a_mirror_that_lies_is_left_out_and_only_the_damaged_piece_comes_from_another() {
    let online = Online::new();
    let piece = 256 << 10;
    let told = online.fetch(&online.metalink(&["wrong-1000000", "steady"], piece));
    assert!(told.starts_with("exit 0") && online.take_equal(), "{told}");
    let at = 1_000_000 / piece * piece;
    assert!(told.contains(&format!("/wrong-1000000 is left out: its piece at byte {at} is damaged")), "{told}");
    let came_again = online.server.asked().iter().any(|asked| {
        asked.path.starts_with("/steady/")
            && asked.range.as_ref().is_some_and(|range| range.starts_with(&format!("bytes={at}-")))
    });
    assert!(came_again, "{:?}", online.server.asked());
}

#[test]
fn whatever_stops_a_fetch_is_told_with_the_next_step_and_nothing_is_lost() {
    let online = Online::new().with_list();
    let mut told: Vec<String> =
        ["page", "gone", "wrong-100000", "leads/ftp:"].map(|manner| online.fetch(&online.at(manner))).into();
    assert!(!online.take_equal(), "nothing of these came whole");
    let mut first = online.start(&online.at("slow-2000000"));
    // The side file comes when the other one is held.
    while !online.bench.path(&format!("here/{FILE}.part.toml")).exists() {
        std::thread::sleep(Duration::from_millis(5));
    }
    told.push(online.fetch(&online.at("steady")));
    first.kill().unwrap();
    first.wait().unwrap();
    told.push(online.bench.pyrotyp(&format!("fetch {} --into /proc", online.at("steady"))));
    told.push(online.bench.pyrotyp("fetch larkspur desktop"));
    told.push(online.bench.pyrotyp("fetch rescue.iso"));
    told.push(online.bench.pyrotyp("fetch ftp://larkspur.example/larkspur.iso"));
    std::fs::write(online.bench.path(&format!("here/{FILE}")), "another file").unwrap();
    told.push(online.fetch(&online.at("steady")));
    steady().bind(|| insta::assert_snapshot!("stopped", told.join("\n")));
}

#[test]
fn a_catalogue_leads_to_the_right_image_and_tells_of_its_age() {
    let online = Online::new().with_list();
    let key = std::fs::read_to_string(online.bench.path("key.pub")).unwrap();
    let rescue = cafe::catalogue(&online.base, &key).replace("version = \"3\"", "version = \"3\"\nsums = [\"md5:00\"]");
    let old = rescue.replace("2036-04-30", "2020-04-30").replace("version = \"9.2\"", "version = \"9.1\"");
    let bench = &online.bench;
    std::fs::write(bench.path("catalogue.toml"), cafe::catalogue(&online.base, &key)).unwrap();
    std::fs::write(bench.path("wrong.toml"), rescue).unwrap();
    std::fs::write(bench.path("old.toml"), old).unwrap();
    let told = [
        bench.pyrotyp("fetch larkspur --catalogue catalogue.toml"),
        bench.pyrotyp("fetch kestrin"),
        bench.pyrotyp("fetch wrenfield"),
        bench.pyrotyp("fetch rescue --catalogue wrong.toml --into here"),
        bench.pyrotyp("fetch larkspur desktop --catalogue old.toml"),
        bench.pyrotyp("fetch rescue --catalogue rescue.iso"),
        bench.pyrotyp(&format!("fetch rescue --catalogue {}/steady/catalogue.toml", online.base)),
        bench.pyrotyp("fetch rescue --catalogue http://cafe.example/catalogue.toml"),
    ];
    steady().bind(|| insta::assert_snapshot!("catalogue", told.join("\n")));
}

#[test]
fn of_several_images_and_mirrors_the_one_that_is_meant_is_taken() {
    let online = Online::new();
    let one = |name: &str, urls: &str| format!("<file name='{name}'>{urls}</file>");
    let url = |manner: &str, place: &str, priority: u32| {
        format!("<url priority='{priority}' location='{place}'>{}</url>", online.at(manner))
    };
    let both = [one("other.iso", &url("gone", "de", 1)), one(FILE, &(url("gone", "us", 1) + &url("steady", "de", 2)))];
    let text = format!("<metalink xmlns='urn:ietf:params:xml:ns:metalink'>{}</metalink>", both.concat());
    let bench = &online.bench;
    std::fs::write(bench.path("served/both.meta4"), text).unwrap();
    let address = format!("{}/steady/both.meta4", online.base);
    let several = online.fetch(&address);
    let near = online.fetch(&format!("{address} --only {FILE} --near DE"));
    assert!(near.starts_with("exit 0") && online.take_equal(), "{near}");
    assert!(!near.contains("/gone"), "the near mirror is asked first: {near}");
    steady().bind(|| {
        insta::assert_snapshot!(several, @"
    exit 2
    -- standard error:
    pyrotyp: http://[SERVER]/steady/both.meta4 names several images
       next: say which one with --only: other.iso, wrenfield-rescue-3.iso
    ")
    });
}

#[test]
fn what_another_key_signed_than_the_catalogue_names_is_refused() {
    let online = Online::new().with_list();
    let bench = &online.bench;
    let other =
        std::fs::read_to_string(format!("{}/../sample/signed/signify.pub", env!("CARGO_MANIFEST_DIR"))).unwrap();
    std::fs::write(bench.path("catalogue.toml"), cafe::catalogue(&online.base, &other)).unwrap();
    let unknown = bench.pyrotyp("fetch wrenfield --catalogue catalogue.toml --into here");
    let named_too = bench.pyrotyp("fetch wrenfield --catalogue catalogue.toml --into here --key key.pub");
    assert!(!bench.path(&format!("here/{FILE}")).exists(), "{unknown}{named_too}");
    steady().bind(|| insta::assert_snapshot!("other_signer", [unknown, named_too].join("\n")));
}

#[test]
fn a_catalogue_from_the_network_counts_only_when_it_is_signed_by_the_key_that_is_known() {
    let online = Online::new();
    let bench = &online.bench;
    let signed = |name: &str| std::fs::read(format!("{}/../sample/signed/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap();
    let address = format!("{}/steady/catalogue.toml", online.base);
    let put = |name: &str, bytes: &[u8]| std::fs::write(bench.path(&format!("served/{name}")), bytes).unwrap();
    put("catalogue.toml", &signed("SHA256SUMS"));
    let unsigned = bench.pyrotyp(&format!("fetch x --catalogue {address}"));
    put("catalogue.toml.minisig", &signed("list.minisig"));
    let unknown = bench.pyrotyp(&format!("fetch x --catalogue {address}"));
    std::fs::write(bench.path("catalogue.pub"), signed("minisign.pub")).unwrap();
    // What is signed there is no catalogue: it is the signature that is looked at first.
    let known = bench.pyrotyp(&format!("fetch x --catalogue {address} --key catalogue.pub"));
    put("catalogue.toml", b"catalogue = 1\n");
    let tampered = bench.pyrotyp(&format!("fetch x --catalogue {address}"));
    steady().bind(|| insta::assert_snapshot!("signed_catalogue", [unsigned, unknown, known, tampered].join("\n")));
}

/// A server for https with a certificate that nobody knows, and the file that makes it known.
fn protected(online: &Online, years: std::ops::Range<i32>) -> String {
    let mut made = rcgen::CertificateParams::new(["127.0.0.1".to_owned()]).unwrap();
    made.not_before = rcgen::date_time_ymd(years.start, 1, 1);
    made.not_after = rcgen::date_time_ymd(years.end, 1, 1);
    let key = rcgen::KeyPair::generate().unwrap();
    let cert = made.self_signed(&key).unwrap();
    std::fs::write(online.bench.path("known.pem"), cert.pem()).unwrap();
    let key = rustls::pki_types::PrivateKeyDer::try_from(key.serialize_der()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let config = Arc::new(config.with_no_client_auth().with_single_cert(vec![cert.der().clone()], key).unwrap());
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let server = online.server.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (server, config) = (server.clone(), Arc::clone(&config));
            std::thread::spawn(move || {
                let session = rustls::ServerConnection::new(config).unwrap();
                let mut stream = rustls::StreamOwned::new(session, stream);
                let _ = server.serve(&mut stream);
                stream.conn.send_close_notify();
                let _ = stream.flush();
            });
        }
    });
    format!("https://{address}")
}

#[test]
fn a_server_that_can_not_prove_who_it_is_is_refused_and_protection_is_never_dropped() {
    let online = Online::new().with_list();
    let secure = protected(&online, 2000..4000);
    let with = |address: &str| {
        let mut command = online.bench.command(&format!("fetch {address} --into here --quiet"));
        command.env("SSL_CERT_FILE", online.bench.path("known.pem"));
        online.bench.tell(&command.output().unwrap())
    };
    let unknown = online.fetch(&format!("{secure}/steady/{FILE}"));
    let down = with(&format!("{secure}/leads/{}", online.at("steady")));
    let known = with(&format!("{secure}/steady/{FILE}"));
    assert!(known.starts_with("exit 0") && online.take_equal(), "{known}");
    steady().bind(|| insta::assert_snapshot!("protected", [unknown, down].join("\n")));
    // A certificate whose days are over, or still to come: the clock of an old PC may be to blame.
    for (years, words) in [(2000..2001, "its days are over"), (3999..4000, "its days have not begun")] {
        let other = protected(&online, years);
        let told = with(&format!("{other}/steady/{FILE}"));
        assert!(told.starts_with("exit 5") && told.contains(words), "{told}");
        assert!(told.contains("is this PC's clock right? It says 2"), "{told}");
    }
    // A proxy that is named is used, and one that is not there is an error.
    let mut command = online.bench.command("fetch http://larkspur.example/larkspur.iso --into here --wait 1");
    command.env("HTTP_PROXY", "http://127.0.0.1:9");
    let through = online.bench.tell(&command.output().unwrap());
    assert!(!through.starts_with("exit 0"), "{through}");
}

/// A small disk in memory, taken away at the end.
struct Disk(std::path::PathBuf);

impl Disk {
    fn at(folder: std::path::PathBuf, size: &str) -> Self {
        let made =
            Command::new("mount").args(["-t", "tmpfs", "-o", &format!("size={size}"), "none"]).arg(&folder).status();
        assert!(made.unwrap().success());
        Self(folder)
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.0).status();
    }
}

#[test]
#[ignore = "needs root, to mount a small disk"]
fn a_full_disk_costs_nothing_that_was_fetched() {
    let online = Online::new().with_list();
    let disk = Disk::at(online.bench.path("here"), "4m");
    let full = online.fetch(&online.at("plain"));
    let too_small = online.fetch(&online.metalink(&["steady"], 1 << 20));
    insta::with_settings!({filters => [(r"127\.0\.0\.1:\d+", "[SERVER]"), (r"\d{7} bytes|[\d.]+ MB", "[SIZE]")]}, {
        insta::assert_snapshot!("full", [full, too_small].join("\n"));
    });
    let grown = Command::new("mount").args(["-o", "remount,size=20m"]).arg(&disk.0).status().unwrap();
    assert!(grown.success());
    let told = online.fetch(&online.at("steady"));
    assert!(told.starts_with("exit 0"), "{told}");
    assert!(std::fs::read(online.bench.path(&format!("here/{FILE}"))).unwrap() == *RESCUE);
}

#[test]
#[ignore = "needs root, to give it up"]
fn behind_root_the_network_is_talked_to_as_the_person() {
    let online = Online::new();
    for folder in ["", "here"] {
        chown(online.bench.path(folder), Some(65534), Some(65534)).unwrap();
    }
    let program = online.bench.path("pyrotyp");
    let mut command = online.bench.command(&format!("fetch {} --into here --quiet", online.at("steady")));
    online.bench.copy_program(program.to_str().unwrap());
    command = {
        let mut copy = Command::new(program);
        copy.args(command.get_args()).current_dir(online.bench.path("")).env_clear();
        copy.envs([("SUDO_UID", "65534"), ("SUDO_GID", "65534")]);
        copy
    };
    let told = online.bench.tell(&command.output().unwrap());
    assert!(told.starts_with("exit 0"), "{told}");
    let owner = std::fs::metadata(online.bench.path(&format!("here/{FILE}"))).unwrap().uid();
    assert_eq!(owner, 65534);
    // Root itself reaches this machine alone.
    let refused = online.bench.pyrotyp("fetch http://larkspur.example/larkspur.iso --into here");
    assert!(refused.starts_with("exit 5") && refused.contains("runs as root"), "{refused}");
}

#[test]
fn what_a_server_does_not_tell_is_not_taken_for_nothing_and_half_an_image_for_none() {
    let Online { bench, server, base } = Online::new();
    let cut = &DESKTOP[..9_000_000];
    let bench = bench.file("served/cut.iso", cut).file("served/ten.iso", b"ten bytes!");
    let fetch = |what: &str, more: &str| bench.pyrotyp(&format!("fetch {base}/{what} --wait 1 --quiet {more}"));
    std::fs::create_dir(bench.path("there")).unwrap();
    let mut told = Vec::new();
    // A list that may be there or not; known to be right without it; half an image, and none.
    for status in ["503", "403"] {
        told.push(fetch(&format!("refuses-{status}/{FILE}"), ""));
        assert!(!bench.path(&format!(".local/state/pyrotyp/shelf/{FILE}")).exists());
    }
    let sum = format!("--sum sha256:{}", sum(&RESCUE, Algorithm::Sha256));
    told.push(fetch(&format!("refuses-503/{FILE}"), &format!("--into here {sum}")));
    told.extend(["steady/cut.iso", "steady/ten.iso"].map(|what| fetch(what, "")));
    told.push(bench.pyrotyp("shelf"));
    // A server that breaks off and can't go on is not asked for ever.
    let asked = server.asked().len();
    told.push(fetch(&format!("brittle-1500000/{FILE}"), "--into there --sum md5:900150983cd24fb0d6963f7d28e17f72"));
    let asked = server.asked().len() - asked;
    assert!(asked < 60, "asked {asked} times");
    steady().bind(|| insta::assert_snapshot!("untold", told.join("\n")));
}

#[test]
fn a_server_that_crawls_is_given_up_and_a_stop_is_heard_meanwhile() {
    let Online { bench, server: _server, base } = Online::new();
    let told = bench.pyrotyp(&format!(
        "fetch {base}/crawls/{FILE} --into here --wait 1 --quiet --sum md5:900150983cd24fb0d6963f7d28e17f72"
    ));
    assert!(told.starts_with("exit 8") && told.contains("crawls/"), "{told}");
    let bench = bench.file("served/SHA256SUMS", &[b'0'; 5000]).stick("a", "");
    let nowhere = bench.pyrotyp(&format!("fetch {base}/silent/{FILE} --straight-to nowhere --unattended --tray tray"));
    assert!(nowhere.starts_with("exit 5") && nowhere.contains("no drive `nowhere`"), "before any server: {nowhere}");
    let tag = tag_of(&bench, "a");
    for words in [
        format!("fetch {base}/crawls/{FILE} --quiet"),
        format!("fetch {base}/silent/{FILE} --straight-to {tag} --unattended --quiet --tray tray"),
    ] {
        let mut child = bench.command(&words).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(700));
        let begun = Instant::now();
        assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
        assert_eq!(child.wait().unwrap().code(), Some(8), "{words}");
        assert!(begun.elapsed() < Duration::from_secs(5), "{words}: a stop took {:?}", begun.elapsed());
    }
}

#[test]
fn what_is_fetched_straight_to_a_drive_starts_only_when_its_checksum_is_right() {
    let online = Online::new().with_list();
    let bench = online.bench.stick("a", "");
    let online = Online { bench, server: online.server, base: online.base };
    let tag = tag_of(&online.bench, "a");
    let straight = |manner: &str, more: &str| {
        let words = format!("fetch {} --straight-to {tag} --unattended --wait 1 {more}", online.at(manner));
        online.bench.on_tray(&words)
    };
    let mut told = vec![straight("steady", "--key key.pub --quiet")];
    assert!(online.bench.drive("a").starts_with(&RESCUE));
    // A line that breaks again and again gets there all the same; one wrong bit, another key, no checksum: nothing starts.
    told.push(straight("breaks-1000000", "--quiet --accept just-verified"));
    assert!(online.bench.drive("a").starts_with(&RESCUE));
    for more in ["wrong-3000000", "page"] {
        told.push(straight(more, "--quiet --accept just-verified"));
    }
    assert!(online.bench.is_blank_at_its_ends("a"));
    // What the drive has of the wrong image is not gone on with: all of it is written again.
    let again = straight("steady", "--resume");
    assert!(again.contains("starting over: ") && !again.contains("were there"), "{again}");
    assert!(online.bench.drive("a").starts_with(&RESCUE));
    std::fs::remove_file(online.bench.path("served/SHA256SUMS")).unwrap();
    told.push(straight("steady", "--quiet"));
    steady().bind(|| insta::assert_snapshot!("straight", told.join("\n")));
}

#[test]
fn a_line_that_is_gone_is_gone_on_with_from_what_the_drive_has() {
    let slow = "[[drive.fault]]\nkind = \"slow\"\nbytes_per_second = 4000000\n";
    let Online { bench, server, base } = Online::new();
    let list = format!("{}  desktop.iso\n", sum(&DESKTOP, Algorithm::Sha256));
    let bench = bench.stick("a", slow).file("served/desktop.iso", &DESKTOP).file("served/SHA256SUMS", list.as_bytes());
    let tag = tag_of(&bench, "a");
    let words =
        format!("fetch {base}/steady/desktop.iso --straight-to {tag} --unattended --quiet --wait 1 --tray tray");
    let mut first = bench.command(&words).stderr(Stdio::piped()).spawn().unwrap();
    let notes = bench.path(".local/state/pyrotyp/under-way");
    let noted = || std::fs::read_dir(&notes).ok().and_then(|mut all| all.next()?.ok()?.metadata().ok());
    let begun = Instant::now();
    // The heading, and a mark of two blocks.
    while noted().is_none_or(|notes| notes.len() < 380) {
        assert!(begun.elapsed() < Duration::from_secs(30) && first.try_wait().unwrap().is_none(), "nothing was noted");
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(Command::new("kill").args(["-INT", &first.id().to_string()]).status().unwrap().success());
    assert_eq!(first.wait().unwrap().code(), Some(8));
    assert!(bench.is_blank_at_its_ends("a"));
    let asked_before = server.asked().len();
    let told = bench.pyrotyp(&format!("{words} --resume"));
    assert!(told.starts_with("exit 0"), "{told}");
    assert!(bench.drive("a").starts_with(&DESKTOP));
    let ranges: Vec<_> = server.asked().into_iter().skip(asked_before).filter_map(|asked| asked.range).collect();
    assert!(!ranges.is_empty(), "what the drive has is not fetched again");
}
