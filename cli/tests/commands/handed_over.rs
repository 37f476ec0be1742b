//! What goes with a stick: the page, and the label with a code that a telephone reads.

use std::fs::{self, File};
use std::io::BufReader;
use std::path::Path;

use super::bench::{Bench, DESKTOP, steady, tag_of};

/// What a page says, without how it looks.
fn text_of(page: &str) -> String {
    let body = page.split_once("<body>").unwrap().1;
    // Whether there is a plot depends on how fast the machine is.
    let body: String = body.split("<svg").map(|part| part.rsplit("</svg>").next().unwrap()).collect();
    let mut text = String::new();
    let mut depth = 0usize;
    for c in body.chars() {
        match c {
            '<' => depth += 1,
            '>' => {
                depth -= 1;
                text.push(' ');
            }
            _ if depth == 0 => text.push(c),
            _ => {}
        }
    }
    text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ") + "\n").collect()
}

/// What the code on a label says, to a reader that shares nothing with whoever drew it.
fn code_on(label: &Path) -> String {
    let mut reader = png::Decoder::new(BufReader::new(File::open(label).unwrap())).read_info().unwrap();
    let mut dots = vec![0; reader.output_buffer_size().unwrap()];
    let seen = reader.next_frame(&mut dots).unwrap();
    assert_eq!((seen.width, seen.height), (591, 295));
    let at = |x, y| dots[y * seen.line_size + x];
    let mut picture = rqrr::PreparedImage::prepare_from_greyscale(591, 295, at);
    picture.detect_grids()[0].decode().unwrap().1
}

#[test]
fn a_page_and_labels_go_with_the_sticks_of_a_job() {
    let faults = "[[drive.fault]]\nkind = \"corrupt\"\nat = 6000000\nbytes = 700000\n";
    let bench = Bench::new().stick("a", "").stick("b", faults).stick("c", "").file("desktop.iso", &DESKTOP);
    let [a, b, c] = ["a", "b", "c"].map(|name| tag_of(&bench, name));
    let written = bench.on_tray(&format!("write desktop.iso --to {a} --to {b} --to {c} --unattended --state notes"));
    assert!(written.starts_with("exit 7"), "{written}");
    let asked = |words: &str| bench.pyrotyp(&format!("ledger {words} --state notes"));
    let mut told = vec![asked("report last --into page.html"), asked("report last --into page.html")];
    told.push(asked("label last --into label.png"));
    told.push(asked("label last --into label.pdf"));
    assert_eq!(bench.json("ledger label last --into label.svg --state notes")["files"][1], format!("label-{c}.svg"));
    // Nothing differs but the tag; the one that does not hold the image has no label.
    let sum = bench.json("ledger show last --state notes")["image"]["sha256"].as_str().unwrap()[..16].to_uppercase();
    for tag in [&a, &c] {
        assert_eq!(code_on(&bench.path(&format!("label-{tag}.png"))), format!("{tag} {sum}"));
    }
    assert!(!bench.path(&format!("label-{b}.png")).exists());
    let drawn = fs::read_to_string(bench.path(&format!("label-{a}.svg"))).unwrap();
    assert!(drawn.contains(r#"width="50mm" height="25mm""#) && drawn.contains(&format!(">{a}</text>")), "{drawn}");

    assert!(bench.on_tray(&format!("write desktop.iso --to {b} --unattended --state notes")).starts_with("exit 7"));
    told.push(asked("label last --into other.png"));
    let page = fs::read_to_string(bench.path("page.html")).unwrap();
    for loaded in ["<script", "<link", "<img", "src=", "href=", "url(", "@import"] {
        assert!(!page.contains(loaded), "{loaded}");
    }
    assert_eq!(page.matches("class=\"differs\"").count(), 1);
    told.push(text_of(&page));
    let mut settings = steady();
    settings.add_filter(r" \d[\d.]* [kMG]?B/s", " [RATE]");
    settings.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d, by .*, job", "[LOCAL], by [WHO], job");
    settings.add_filter(r"/tmp/\.tmp\w+", "[BENCH]");
    settings.bind(|| insta::assert_snapshot!("handed_over", told.join("\n")));
}

#[test]
fn what_stands_on_a_page_from_outside_is_text() {
    let bench = Bench::new().stick("a", "");
    let tag = tag_of(&bench, "a");
    assert!(bench.on_tray(&format!("write rescue.iso --to {tag} --unattended --state notes")).starts_with("exit 0"));
    let record = fs::read_dir(bench.path("notes/jobs")).unwrap().map(|entry| entry.unwrap().path());
    let record = record.into_iter().find(|path| path.extension().is_some_and(|end| end == "json")).unwrap();
    let hostile = "</title><script>alert(1)</script>&\\u202e\\u0007";
    let text = fs::read_to_string(&record).unwrap().replace("WRENFIELD_RESCUE_3", hostile).replace("KP-a", hostile);
    fs::write(&record, text).unwrap();
    for file in ["page.html", "label.svg", "label.png"] {
        let kind = if file == "page.html" { "report" } else { "label" };
        let told = bench.pyrotyp(&format!("ledger {kind} last --into {file} --state notes"));
        assert!(told.starts_with("exit 0"), "{told}");
    }
    for file in ["page.html", "label.svg"] {
        let text = fs::read_to_string(bench.path(file)).unwrap();
        assert!(!text.contains("<script") && !text.contains(['\u{202e}', '\u{7}']), "{text}");
        assert!(text.contains("script"), "{text}");
    }
}
