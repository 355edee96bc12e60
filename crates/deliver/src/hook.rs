//! `to = "hook"`: a program elsewhere, over HTTP. Each message is a CloudEvent (1.0, structured content mode), signed by the Standard
//! Webhooks specification; or of the shape that a chat wants.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use ring::hmac;
use serde_json::{Value, json};
use sophron_core::telling::{Hook, Message, SECRET, Trouble, shaped};
use ureq::tls::{Certificate, RootCerts, TlsConfig, TlsProvider};
use ureq::{Agent, Error, Timeout};

use crate::job::{Job, Said, Secret};
use crate::network;

/// How long one request may take.
const MOST: Duration = Duration::from_secs(10);

/// How long the address of a name is waited for.
const RESOLVING: Duration = Duration::from_secs(3);

/// After that long no further request is begun.
const NO_FURTHER: Duration = Duration::from_secs(4);

/// So much of an answer is read, bytes: the status decides.
const ANSWER: u64 = 1024;

/// So long it is waited for: a line is used again when all that was answered is read.
const ANSWERING: Duration = Duration::from_secs(1);

/// How a key to sign with begins.
const KEY: &str = "whsec_";

pub fn deliver(to: &Hook, job: &Job, say: &mut dyn FnMut(Said)) -> Result<(), Trouble> {
    let later = |why: String| Trouble::Later(why, None);
    let began = Instant::now();
    let agent = agent(to, &job.supplies.roots).map_err(later)?;
    let secret = job.supplies.secret.as_ref();
    let path = match secret {
        Some(secret) if to.url.path.contains(SECRET) && !secret.text().bytes().all(|byte| byte.is_ascii_graphic()) => {
            return Err(Trouble::Off(
                "its secret cannot stand in a URL: it has blanks or other such letters".to_owned(),
            ));
        }
        Some(secret) => to.url.path.replace(SECRET, secret.text()),
        None => to.url.path.clone(),
    };
    let url = format!("{}{path}", to.url);
    let key = secret.filter(|_| path == to.url.path).map(key).transpose().map_err(Trouble::Off)?;
    if job.messages.iter().all(|message| message.seq == 0) {
        probe(to, &job.supplies.roots, say).map_err(later)?;
    }
    for message in &job.messages {
        if began.elapsed() > NO_FURTHER {
            break;
        }
        post(&agent, &url, to, message, key.as_ref())?;
        say(Said::Taken(1));
    }
    say(Said::Step("taken".to_owned()));
    Ok(())
}

/// How far one comes, step by step; the requests themselves have a line of their own.
fn probe(to: &Hook, roots: &str, say: &mut dyn FnMut(Said)) -> Result<(), String> {
    let line = network::connect(&to.url.server, say)?;
    if to.url.is_https {
        network::encrypted(network::Timed::new(line, MOST), &to.url.server, roots, say)?;
    }
    Ok(())
}

fn agent(to: &Hook, roots: &str) -> Result<Agent, String> {
    let mut config = Agent::config_builder()
        .proxy(None)
        .max_redirects(0)
        .max_redirects_will_error(false)
        .http_status_as_error(false)
        .timeout_global(Some(MOST))
        .timeout_resolve(Some(RESOLVING))
        .timeout_recv_body(Some(ANSWERING))
        .user_agent(concat!("sophron/", env!("CARGO_PKG_VERSION")));
    if to.url.is_https {
        let roots: Vec<Certificate<'static>> =
            network::roots(roots)?.iter().map(|der| Certificate::from_der(der).to_owned()).collect();
        let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
        let tls = TlsConfig::builder().provider(TlsProvider::Rustls).root_certs(RootCerts::new_with_certs(&roots));
        config = config.tls_config(tls.unversioned_rustls_crypto_provider(provider).build());
    }
    Ok(config.build().new_agent())
}

/// The key of a secret as the specification writes it.
fn key(secret: &Secret) -> Result<hmac::Key, String> {
    let bytes = secret.text().strip_prefix(KEY).and_then(|key| BASE64_STANDARD.decode(key).ok());
    let bytes = bytes.filter(|bytes| (24..=64).contains(&bytes.len()));
    let bytes = bytes.ok_or_else(|| {
        format!("its secret is no key to sign with: that is {KEY} and 24 to 64 bytes in base64; or put {SECRET} into the `url`")
    })?;
    Ok(hmac::Key::new(hmac::HMAC_SHA256, &bytes))
}

fn signature(key: &hmac::Key, id: &str, at: u64, body: &str) -> String {
    let signed = hmac::sign(key, format!("{id}.{at}.{body}").as_bytes());
    format!("v1,{}", BASE64_STANDARD.encode(signed))
}

fn post(agent: &Agent, url: &str, to: &Hook, message: &Message, key: Option<&hmac::Key>) -> Result<(), Trouble> {
    let (body, kind) = match &to.shape {
        Some(shape) => (shaped(shape, message), "application/json"),
        None => (event(message), "application/cloudevents+json; charset=utf-8"),
    };
    let body = body.to_string();
    let mut request = agent.post(url).header("content-type", kind);
    if let Some(key) = key {
        let at = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
        request = request
            .header("webhook-id", &message.id)
            .header("webhook-timestamp", at.to_string())
            .header("webhook-signature", signature(key, &message.id, at, &body));
    }
    let mut answer = request.send(&body).map_err(|error| Trouble::Later(words(&error), None))?;
    let status = answer.status().as_u16();
    let after = answer.headers().get("retry-after").and_then(|after| after.to_str().ok()).and_then(after);
    let _ = answer.body_mut().with_config().limit(ANSWER).read_to_vec();
    match status {
        200..=299 => Ok(()),
        408 | 425 | 429 | 500..=599 => Err(Trouble::Later(format!("it answers {status}"), after)),
        300..=399 => Err(Trouble::ForGood(format!("it answers {status}: it is elsewhere, and that is not followed"))),
        401 | 403 => Err(Trouble::ForGood(format!("it answers {status}: is the secret right?"))),
        404 | 410 => Err(Trouble::ForGood(format!("it answers {status}: nothing is at that URL"))),
        _ => Err(Trouble::ForGood(format!("it answers {status}"))),
    }
}

/// Seconds, or a date.
fn after(text: &str) -> Option<Duration> {
    if let Ok(seconds) = text.trim().parse() {
        return Some(Duration::from_secs(seconds));
    }
    let at = jiff::fmt::rfc2822::parse(text).ok()?.timestamp();
    Duration::try_from(at.duration_since(jiff::Timestamp::now())).ok()
}

/// Why it was not asked: never with the URL, in which a secret may stand.
fn words(error: &Error) -> String {
    match error {
        Error::Io(error) => network::words(error),
        Error::Timeout(Timeout::Resolve) => "nobody says in time what its address is".to_owned(),
        Error::Timeout(_) => "it does not answer in time".to_owned(),
        Error::HostNotFound => "its address is not known".to_owned(),
        Error::ConnectionFailed => "no line to it".to_owned(),
        Error::Rustls(error) => network::untrusted(&error.to_string()),
        Error::Tls(why) => network::untrusted(why),
        Error::LargeResponseHeader(..) => "what it answers has no end".to_owned(),
        Error::Protocol(_) => "what it answers is no HTTP".to_owned(),
        _ => "it cannot be asked".to_owned(),
    }
}

fn event(message: &Message) -> Value {
    let Message { seq, id, at, host, severity, case, rule, word, process, app, owner, line, .. } = message;
    let plain = |text: &str, others: &str| -> String {
        text.chars().map(|c| if c.is_ascii_alphanumeric() || others.contains(c) { c } else { '-' }).collect()
    };
    let mut event = json!({
        "specversion": "1.0",
        "id": id,
        "source": format!("//{}/sophron", plain(host, "-._")),
        "type": format!("sophron.{}", plain(word, "")),
        "time": at,
        "datacontenttype": "application/json",
        "data": {
            "host": host, "record": seq, "severity": severity, "case": case, "rule": rule, "what": word,
            "process": process, "app": app, "owner": owner, "line": line,
        },
    });
    if let Some(case) = case {
        event["subject"] = format!("case/{case}").into();
    }
    event
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    /// The example of the specification.
    #[test]
    fn it_signs_as_others_do() {
        let secret = Secret::of_file(b"whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw\n").unwrap();
        let body = "{\"test\": 2432232314}";
        let signed = signature(&key(&secret).unwrap(), "msg_p5jXN8AQM9LWM0D4loKWxJek", 1_614_265_330, body);
        assert_eq!(signed, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
        assert!(key(&Secret::of_file(b"whsec_short").unwrap()).is_err());
    }

    #[test]
    fn it_comes_back_when_it_is_asked_to() {
        assert_eq!(after("120"), Some(Duration::from_secs(120)));
        assert_eq!(after("Wed, 21 Oct 2015 07:28:00 GMT"), None, "that is over");
        assert!(after("Wed, 21 Oct 2099 07:28:00 GMT").is_some());
    }
}
