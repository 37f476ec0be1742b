//! Any bytes as a torrent, and any image with a sum in its descriptor, compared in one pass.
#![no_main]

use libfuzzer_sys::fuzz_target;
use pyrotyp_core::published::{Claims, Published, Purpose, check, embedded, torrent};
use pyrotyp_core::stop::Cancel;
use pyrotyp_core::volume::iso9660;

fuzz_target!(|data: &[u8]| {
    let mut published = Published::default();
    for name in ["larkspur.iso", "a"] {
        published.torrents.extend(torrent(data, name).map(|torrent| (name.into(), torrent)));
    }
    // The image: its volume descriptor begins where a disk's would.
    let mut image = vec![0u8; 16 * 2048];
    image.extend_from_slice(data);
    let embedded = match iso9660::read(&image) {
        Ok(Some(Ok(volume))) => embedded(&image, &volume).unwrap_or_default(),
        _ => None,
    };
    if !published.torrents.is_empty() || embedded.is_some() {
        let report = check(
            &image,
            Claims { published: &published, embedded: embedded.as_ref(), purpose: Purpose::Write },
            &Cancel::new(),
            &mut |_| (),
        )
        .expect("memory is read");
        assert_eq!(report.pieces.len(), published.torrents.len());
    }
});
