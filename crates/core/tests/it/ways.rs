//! Where channels lead, and what is sent there.

use serde_json::json;
use sophron_core::telling::{Message, Server, Url, shaped, unknown_placeholders};

#[test]
fn servers() {
    let parsed = |text: &str| Server::parse(text).map(|server| server.to_string());
    for sound in ["mail.mossgate.example:587", "192.0.2.7:514", "[2001:db8::7]:514"] {
        assert_eq!(parsed(sound).as_deref(), Ok(sound));
    }
    for bad in ["mail", ":25", "mail:0", "mail:70000", "pflän.example:25", "a b:25", "[::1]x:25", "2001:db8::7:514"] {
        assert!(parsed(bad).is_err(), "{bad}");
    }
}

#[test]
fn urls() {
    let parsed = |text: &str| Url::parse(text).map(|url| (url.to_string(), url.path));
    let as_texts = |place: &str, path: &str| Ok((place.to_owned(), path.to_owned()));
    assert_eq!(parsed("https://hooks.mossgate.example/in?a=b"), as_texts("https://hooks.mossgate.example", "/in?a=b"));
    assert_eq!(parsed("http://[::1]:80"), as_texts("http://[::1]", "/"));
    assert_eq!(parsed("https://[::1]/x"), as_texts("https://[::1]", "/x"));
    for bad in
        ["ftp://x/", "https://ines:secret@x/", "https://x/a b", "https://x/#a", "https:///a", "https://x/\r\nHost: y"]
    {
        assert!(parsed(bad).is_err(), "{bad}");
    }
    assert_eq!(format!("{:?}", Url::parse("https://x/secret").unwrap()), "https://x/…");
}

#[test]
fn what_fills_a_placeholder_stays_in_its_text() {
    let mut message = Message::trial(&jiff::Zoned::default(), "mossgate-desk-03", "x");
    message.app = Some("\"}, {line} \\".to_owned());
    let shape = json!({ "text": "{severity}: {app}{", "blocks": [{ "n": 1, "t": "{case}" }] });
    let shaped = shaped(&shape, &message);
    assert_eq!(shaped, json!({ "text": "notice: \"}, {line} \\{", "blocks": [{ "n": 1, "t": "" }] }));
    assert_eq!(unknown_placeholders(&json!(["{line} {lien}"])), ["lien"]);
}
