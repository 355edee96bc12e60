//! Any text: the parser answers with a condition that prints and reads back as itself, or with errors whose places are in
//! the text.
#![no_main]

use libfuzzer_sys::fuzz_target;
use sophron_core::condition::{Condition, Place};
use sophron_core::subject::Judged;

fuzz_target!(|text: &str| {
    for place in [Place::Any, Place::Look, Place::Protect, Place::Judged(Judged::Tree)] {
        match Condition::parse(text, place) {
            Ok(condition) => {
                let printed = condition.to_string();
                assert_eq!(Condition::parse(&printed, place).as_ref(), Ok(&condition), "{printed}");
            }
            Err(errors) => {
                assert!(!errors.is_empty());
                for span in errors.iter().filter_map(|error| error.span.clone()) {
                    assert!(text.get(span).is_some());
                }
            }
        }
    }
});
