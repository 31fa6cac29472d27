//! Reads arbitrary text as a catalogue of images; what is accepted is searched and changed.

#![no_main]

use libfuzzer_sys::fuzz_target;
use pinewrit_shelf::{Base, Catalogue, Shelf, add, changes, remove};

fuzz_target!(|text: &str| {
    let Ok(catalogue) = Catalogue::parse(text) else {
        return;
    };
    assert!(changes(&catalogue, &catalogue).is_empty());
    for place in ["https://larkfell.example/os/shelf.toml?x", "os/shelf.toml"] {
        let base = Base::of(place);
        let is_remote = matches!(base, Base::Server(_));
        let shelf = Shelf::new(vec![(base, catalogue.clone())]);
        for found in shelf.images() {
            assert!(shelf.find(&found.image.full_name()).is_ok());
            // What a server says never leads to a file here.
            assert!(!is_remote || found.location().path().is_none());
        }
    }
    let Some(image) = catalogue.images.first() else {
        return;
    };
    let without = remove(text, &image.full_name()).expect("it was read before");
    let again = add(&without.expect("it is there"), image).expect("a place for it");
    let again = Catalogue::parse(&again).expect("what was written");
    assert_eq!(again.images.last(), Some(image));
});
