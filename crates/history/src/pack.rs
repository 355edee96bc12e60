//! What the apps of one hour did, packed: an hour is written and read as a whole, and there are millions of these rows in a year.
//!
//! Each app is its number and its figures, one after the other, as whole numbers of seven bits a byte, the least first, with the
//! eighth bit set where more follow (LEB128).

use std::sync::Arc;

use sophron_core::usage::{App, AppHour};

use crate::rows::{Apps, bytes, kib, milli, seconds};

/// One more app of an hour.
pub(crate) fn push(out: &mut Vec<u8>, id: i64, of: &AppHour) {
    let figures = [
        id,
        milli(of.seconds),
        milli(of.cpu),
        milli(of.through),
        kib(of.held),
        kib(of.held_high),
        kib(of.read),
        kib(of.written),
        i64::from(of.most),
        i64::from(of.starts),
    ];
    for figure in figures {
        let mut rest = u64::try_from(figure).unwrap_or(0);
        while rest >= 0x80 {
            out.push((rest & 0x7f) as u8 | 0x80);
            rest >>= 7;
        }
        out.push(rest as u8);
    }
}

/// The apps of an hour. What cannot be read ends it: it is a file, and not trusted.
pub(crate) fn each(mut packed: &[u8], apps: &Apps, mut each: impl FnMut(&Arc<App>, AppHour)) {
    while !packed.is_empty() {
        let mut next = || number(&mut packed);
        let figures: Option<[i64; 10]> =
            (|| Some([next()?, next()?, next()?, next()?, next()?, next()?, next()?, next()?, next()?, next()?]))();
        let Some([id, there, cpu, through, held, held_high, read, written, most, starts]) = figures else { return };
        let count = |number: i64| u32::try_from(number).unwrap_or(u32::MAX);
        let Some(app) = apps.get(id) else { continue };
        let hour = AppHour {
            seconds: seconds(there),
            cpu: seconds(cpu),
            through: seconds(through),
            held: bytes(held),
            held_high: bytes(held_high),
            read: bytes(read),
            written: bytes(written),
            most: count(most),
            starts: count(starts),
        };
        each(app, hour);
    }
}

fn number(packed: &mut &[u8]) -> Option<i64> {
    let mut found = 0_u64;
    for place in 0..9 {
        let (byte, rest) = packed.split_first()?;
        *packed = rest;
        found |= u64::from(byte & 0x7f) << (7 * place);
        if byte & 0x80 == 0 {
            return i64::try_from(found).ok();
        }
    }
    None
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn what_is_packed_is_unpacked_and_nothing_breaks_it() {
        let mut apps = Apps::default();
        let app = |name: &str| Arc::new(App { app: name.to_owned(), owner: "ines".to_owned(), uid: 1001 });
        apps.put(1, app("labelpress"));
        apps.put(900, app("notepatch"));
        let hour = AppHour {
            seconds: 3600.0,
            cpu: 12.345,
            through: 0.0,
            held: 3.0 * 1024.0 * 1024.0 * 1024.0,
            held_high: 1e15,
            read: 0.0,
            written: 1024.0,
            most: 7,
            starts: u32::MAX,
        };
        let mut packed = Vec::new();
        push(&mut packed, 1, &hour);
        push(&mut packed, 5, &hour);
        push(&mut packed, 900, &AppHour::default());
        let unpacked = |packed: &[u8]| {
            let mut found = Vec::new();
            each(packed, &apps, |app, hour| found.push((app.app.clone(), hour)));
            found
        };
        let found = unpacked(&packed);
        assert_eq!(found.len(), 2, "nobody has number 5");
        assert_eq!((found[0].0.as_str(), found[0].1.cpu, found[0].1.most), ("labelpress", 12.345, 7));
        assert!((found[0].1.held_high - 1e15).abs() < 1024.0);
        assert_eq!(found[1], ("notepatch".to_owned(), AppHour::default()));
        for cut in 0..packed.len() {
            assert!(unpacked(&packed[..cut]).len() <= 2);
        }
        assert!(unpacked(&[0xff; 100]).is_empty());
    }
}
