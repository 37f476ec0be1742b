use super::bench::{Bench, steady};

#[test]
fn the_demo_walks_through_the_whole_job() {
    let bench = Bench::new();
    let mut settings = steady();
    settings.add_filter(r" +\d[\d.]* [kMG]?B/s", " [RATE]");
    settings.bind(|| insta::assert_snapshot!("demo", bench.pyrotyp("demo --quiet")));
    let kept = bench.pyrotyp("demo --keep bench --quiet");
    assert!(kept.starts_with("exit 0"), "{kept}");
    let again = bench.pyrotyp("demo --keep bench --quiet");
    insta::assert_snapshot!(again, @"
    exit 2
    -- standard error:
    pyrotyp: bench is there already
       next: name a folder that is to be made
    ");
}
