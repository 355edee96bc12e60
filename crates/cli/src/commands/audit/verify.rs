//! `sophron audit verify`: whether the record is whole, and who vouches for it.

use sophron_core::audit::stamps::{self, Stamps, unhex};
use sophron_core::audit::{self, Fault, Filter, Record};
use sophron_linux::files::open_plain;
use sophron_linux::trail;

use super::{broken, files, nothing_there};
use crate::args;
use crate::exit::{Exit, Failure};
use crate::ui::style::{Label, Styled};
use crate::ui::{self, paragraph, table, when};

const INDENT: usize = 9;

pub fn run(args: &args::AuditVerify) -> Result<Exit, Failure> {
    let key = args.key.as_deref().map(public_key).transpose()?;
    let expect = args.expect.as_deref().map(hash).transpose()?;
    let (state, files) = files(&args.state, &Filter::default())?;
    let Some(files) = files else {
        if key.is_some() || expect.is_some() {
            ui::err("broken: there is no trail at all, and a stamp of it was expected\n");
            return Ok(Exit::Found);
        }
        return nothing_there(&args.state);
    };
    let bytes: Vec<&[u8]> = files.bytes.iter().map(Vec::as_slice).collect();
    let checked = audit::check_files(&bytes);
    let records = &checked.notable;
    if let Some(fault) = &checked.fault {
        broken(fault, records.last(), checked.torn, &files.paths, &state);
        return Ok(Exit::Found);
    }
    let stamps = match stamps::check(records, key.as_deref(), expect.as_deref()) {
        Ok(stamps) => stamps,
        Err(fault) => {
            complain(&fault, records);
            return Ok(Exit::Found);
        }
    };
    let width = table::terminal_width();
    let until = records.last().map(|record| format!(", last at {}", when::date(record.at))).unwrap_or_default();
    let from = (checked.first > 1)
        .then(|| format!("; it begins with record {}, the older ones were removed as recorded", checked.first));
    ui::out(format_args!(
        "{}: all {} records are whole and in order{until}{}\nlast hash {}\n",
        trail::folder(&state).display(),
        checked.records,
        from.unwrap_or_default(),
        checked.link.hash,
    ));
    ui::out(paragraph::under("stamps", INDENT, &vouched(&stamps, records, key.is_some()), width));
    if let Some(seq) = stamps.unsigned_removal {
        let line = format!(
            "record {seq} tells that older records were removed, and no stamp vouches for that yet: anybody who can write the files could have written it"
        );
        ui::out(paragraph::styled("weak", INDENT, &line, width, Label::Warning));
    }
    for seq in &stamps.begun_anew {
        let line = format!(
            "at record {seq} a key began anew although there had been one: somebody removed the keys, or computed what follows by himself. What stands before is vouched for by the stamps before it only"
        );
        ui::out(paragraph::styled("weak", INDENT, &line, width, Label::Warning));
    }
    Ok(Exit::Fine)
}

/// Who vouches for what.
fn vouched(stamps: &Stamps, records: &[Record], with_key: bool) -> String {
    let Some((seq, hash)) = &stamps.last else {
        return "none: who can write the files could have computed all of it anew".to_owned();
    };
    let end = records.last().map_or(0, |record| record.seq);
    let rest = match end.saturating_sub(*seq) {
        0 => "the whole trail".to_owned(),
        left => format!("all but the last {left} records"),
    };
    let by = match (with_key, &stamps.first_key) {
        (true, _) => "by the key that was given and those it named".to_owned(),
        (false, Some(key)) => format!(
            "by the trail's own keys, the first of which is {key}: kept elsewhere and given with --key, it proves that nobody has computed the trail anew"
        ),
        (false, None) => "by the trail's own keys".to_owned(),
    };
    format!("{} genuine, over {rest}, {by}. The last is record {seq}; --expect {hash} asks for it later", stamps.count)
}

fn complain(fault: &Fault, records: &[Record]) {
    let mut text = format!("{} record {}: {}\n", Styled(Label::Critical, "broken:"), fault.seq, fault.what);
    let stamp = records.iter().rev().find(|record| record.seq < fault.seq && record.stamp.is_some());
    text.push_str(&match stamp {
        Some(stamp) => format!(
            "  the chain is whole, and the stamps up to record {} ({}) are genuine; what follows cannot be trusted\n",
            stamp.seq,
            when::date(stamp.at)
        ),
        None => "  the chain is whole, but no genuine stamp vouches for any of it\n".to_owned(),
    });
    ui::err(text);
}

/// A public key, or the file that holds one.
fn public_key(given: &str) -> Result<String, Failure> {
    let text = match unhex::<32>(given) {
        Some(_) => given.to_owned(),
        None => open_plain(std::path::Path::new(given)).and_then(std::io::read_to_string).map_err(|error| {
            let shown = sophron_core::text::clean(given.as_bytes());
            Failure::new(Exit::Usage, format!("`{shown}` is neither a public key nor a file that can be read"))
                .because(error)
                .hint("a key is 64 hex digits, as in audit/first.pub of the state folder")
        })?,
    };
    let key = text.trim().to_lowercase();
    unhex::<32>(&key)
        .map(|_| key)
        .ok_or_else(|| Failure::new(Exit::Usage, "that file holds no public key: 64 hex digits"))
}

fn hash(given: &str) -> Result<String, Failure> {
    let hash = given.trim().to_lowercase();
    unhex::<32>(&hash).map(|_| hash).ok_or_else(|| {
        Failure::new(Exit::Usage, "a stamp is named by the hash of its record: 64 hex digits")
            .hint("the system log has a line for each stamp, and `sophron audit verify` prints the last")
    })
}
