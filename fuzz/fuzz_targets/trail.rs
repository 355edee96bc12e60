//! A trail that anybody may have written to: it is verified, read and told of, or refused with a word.

#![no_main]

use jiff::tz::TimeZone;
use libfuzzer_sys::fuzz_target;
use sophron_core::audit::{self, InForce};

fuzz_target!(|bytes: &[u8]| {
    let verified = audit::verify(bytes);
    let records = &verified.records;
    let _ = audit::check(bytes).map(|fault| format!("{fault:?}"));
    let _ = audit::tail(bytes);
    let in_force = InForce::of(records);
    let _ = (in_force.holds().count(), in_force.announced().len());
    for case in audit::cases(records).iter().take(8) {
        let _ = audit::account(records, case.case, &TimeZone::UTC);
    }
    let _ = audit::hands(records);
    // Lines that are records, whatever their chain.
    for line in bytes.split(|byte| *byte == b'\n') {
        if let Ok(record) = serde_json::from_slice::<audit::Record>(line) {
            let _ = InForce::of([&record]).holds().count();
            let _ = audit::cases(std::slice::from_ref(&record));
        }
    }
});
