//! What is found out by reading hostile bytes can be sent to another process and read again there.

use std::fs;

use jiff::Timestamp;
use pyrotyp_core::FindingId;
use pyrotyp_core::contents::{Contents, contents};
use pyrotyp_core::devices::Platform;
use pyrotyp_core::devices::tray::Tray;
use pyrotyp_core::drive::{Choice, Drive, NamedBy};
use pyrotyp_core::guard::{BenchPlace, Circumstances, Confirmed, IMAGE_RULES, RULES, findings_for_choice};
use pyrotyp_core::image::{Inspection, inspect};
use pyrotyp_core::job::Event;
use pyrotyp_core::plan::{Bench, Intent, survey};
use pyrotyp_core::record::Stage;
use pyrotyp_sample::{cafe, disk_image};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// The same value, through the text that a pipe would carry.
fn sent<T: Serialize + DeserializeOwned>(value: &T) -> T {
    serde_json::from_str(&serde_json::to_string(value).unwrap()).unwrap()
}

#[test]
fn what_is_known_of_images_and_drives_survives_the_way_to_another_process() {
    let images = [cafe::desktop().build(), cafe::rescue().build(), disk_image("A disk"), b"no image".to_vec()];
    for image in images {
        let seen = inspect(&image).unwrap();
        assert_eq!(sent::<Inspection>(&seen), seen);
        let held = contents(&image).unwrap();
        assert_eq!(sent::<Contents>(&held), held);
    }
    let folder = tempfile::tempdir().unwrap();
    let stick = "name = \"a\"\nmodel = \"Pocket\"\nserial = \"KP16-a\"\nbytes = 2000000000\nbus = \"usb\"\nremovable = true\nheld_by = \"md0\"\n";
    fs::write(folder.path().join("tray.toml"), format!("[[drive]]\n{stick}")).unwrap();
    let tray = Tray::open(folder.path()).unwrap();
    let drives = tray.drives().unwrap();
    assert_eq!(sent::<Vec<Drive>>(&drives), drives);
    let choice = Choice { drive: drives[0].clone(), by: NamedBy::Tag, partition: Some(1) };
    let bench = Bench {
        state: None,
        protected: vec![choice.drive.tag.clone()],
        places: vec![(folder.path().to_owned(), BenchPlace::Shelf)],
    };
    let intent = Intent { image: None, choices: std::slice::from_ref(&choice), confirmed: Confirmed::ByNobody };
    let known = survey(&tray, &bench, &intent, Timestamp::now()).unwrap();
    let found = findings_for_choice(&choice, None, &known);
    assert!(found.len() >= 3, "{found:?}");
    assert_eq!(sent(&found), found);
    assert_eq!(findings_for_choice(&sent(&choice), None, &sent::<Circumstances>(&known)), found);
    let event = Event::Began { stage: Stage::ReadBack, bytes: Some(7) };
    assert_eq!(sent(&event), event);
}

#[test]
fn an_id_is_its_word_everywhere() {
    for id in FindingId::ALL {
        assert_eq!(id.word().parse(), Ok(*id));
        assert_eq!(serde_json::to_string(id).unwrap(), format!("\"{id}\""));
    }
    assert!("no-such-id".parse::<FindingId>().is_err());
    assert!(RULES.iter().chain(&IMAGE_RULES).all(|rule| FindingId::ALL.contains(&rule.id)));
}
