//! Any bytes as one rules file, and as a file with a further one beside it: rules, or errors; what is read can be
//! explained and looked over.
#![no_main]

use libfuzzer_sys::fuzz_target;
use sophron_core::rules::{File, explain, load, load_files, review};

fuzz_target!(|bytes: &[u8]| {
    match load(bytes) {
        Ok(rules) => {
            rules.rules.iter().for_each(|rule| drop(explain(rule)));
            drop(review(&rules, None));
        }
        Err(rejected) => assert!(!rejected.errors.is_empty()),
    }
    let first = b"format = 1\n[[rule]]\nname = 'a'\nbreach = 'cpu > 5%'\nlasting = '1s'\n";
    drop(load_files(&[File { bytes: first }, File { bytes }]));
});
