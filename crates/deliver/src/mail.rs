//! `to = "mail"`: all that is due in one mail, the worst first. STARTTLS, TLS and logging in as the server offers them.

use std::net::SocketAddr;
use std::time::Duration;

use lettre::message::header::{ContentType, Header, HeaderName, HeaderValue};
use lettre::message::{Mailbox, MessageBuilder};
use lettre::transport::smtp::authentication::{Credentials, Mechanism};
use lettre::transport::smtp::client::{Certificate, CertificateStore, SmtpConnection, TlsParameters, TlsVersion};
use lettre::transport::smtp::commands::{Data, Mail as MailFrom, Rcpt};
use lettre::transport::smtp::extension::ClientId;
use lettre::transport::smtp::response::Response;
use lettre::{Address, Message as Written};
use sophron_core::order::InOrder;
use sophron_core::severity::Severity;
use sophron_core::sorted::SortedSet;
use sophron_core::telling::{Mail, Message, Secure, Trouble};
use sophron_core::text::{clean, counted};

use crate::job::{Job, Said};
use crate::network;

/// How long one answer is waited for. A server that drips is ended by the helper's own deadline.
const PATIENCE: Duration = Duration::from_secs(15);

/// The word by which a case begins.
const OPENED: &str = "opened";

type Smtp = lettre::transport::smtp::Error;

pub fn deliver(to: &Mail, job: &Job, say: &mut dyn FnMut(Said)) -> Result<(), Trouble> {
    let written = written(to, &job.messages).map_err(|why| Trouble::ForGood(format!("no mail can be made: {why}")))?;
    let mut line = line(to, job, say)?;
    let answer = hand_over(&mut line, to, &written, say)?;
    say(Said::Step(format!("taken: {}", first_line(&answer))));
    say(Said::Taken(job.messages.len()));
    // What comes now changes nothing.
    let _ = line.quit();
    Ok(())
}

/// A line on which mail may be handed over.
fn line(to: &Mail, job: &Job, say: &mut dyn FnMut(Said)) -> Result<SmtpConnection, Trouble> {
    let later = |why: String| Trouble::Later(why, None);
    let us = ClientId::Domain(job.messages.first().map_or_else(|| "localhost".to_owned(), |first| name(&first.host)));
    let encryption = match to.secure {
        Secure::None => None,
        _ => Some(encryption(to, &job.supplies.roots).map_err(later)?),
    };
    let at_once = encryption.as_ref().filter(|_| to.secure == Secure::Tls);
    let mut why = String::new();
    let mut connected = None;
    for address in network::addresses(&to.server, say).map_err(later)? {
        match SmtpConnection::connect(address, Some(PATIENCE), &us, at_once, None) {
            Ok(line) => {
                connected = Some((line, address));
                break;
            }
            Err(error) => why = format!("{address}: {}", words(&error)),
        }
    }
    let (mut line, address): (SmtpConnection, SocketAddr) = connected.ok_or_else(|| later(why))?;
    say(Said::Step(format!("connected to {address}")));
    if let Some(encryption) = encryption.as_ref().filter(|_| to.secure == Secure::StartTls) {
        if !line.can_starttls() {
            let why = "it offers no STARTTLS, and nothing is sent in the clear; does it want `secure = \"tls\"`?";
            return Err(later(why.to_owned()));
        }
        line.starttls(encryption, &us).map_err(|error| later(words(&error)))?;
    }
    if line.is_encrypted() {
        say(Said::Step(format!("TLS with {}: its certificate fits that name", to.server.host)));
    }
    if let (Some(user), Some(secret)) = (&to.user, &job.supplies.secret) {
        let who = Credentials::new(user.clone(), secret.text().to_owned());
        // Who cannot log in has no message that is at fault: it is tried again.
        line.auth(&[Mechanism::Plain, Mechanism::Login], &who)
            .map_err(|error| later(format!("{user} cannot log in: {}", words(&error))))?;
        say(Said::Step(format!("logged in as {user}")));
    }
    Ok(line)
}

fn encryption(to: &Mail, pem: &str) -> Result<TlsParameters, String> {
    let mut encryption = TlsParameters::builder(to.server.host.clone())
        .certificate_store(CertificateStore::None)
        .set_min_tls_version(TlsVersion::Tlsv12);
    for root in network::roots(pem)? {
        // One of many that cannot be read vouches for nobody.
        if let Ok(root) = Certificate::from_der(root.to_vec()) {
            encryption = encryption.add_root_certificate(root);
        }
    }
    encryption.build_rustls().map_err(|error| format!("nothing can be encrypted: {error}"))
}

/// To everybody who is not refused; only where nobody is left it was not taken.
fn hand_over(
    line: &mut SmtpConnection,
    to: &Mail,
    written: &Written,
    say: &mut dyn FnMut(Said),
) -> Result<Response, Trouble> {
    let bad = |error: lettre::address::AddressError| Trouble::ForGood(error.to_string());
    let from: Address = to.from.parse().map_err(bad)?;
    line.command(MailFrom::new(Some(from), Vec::new())).map_err(|error| trouble(&error))?;
    let (mut accepted, mut refused) = (0, None);
    for address in &to.addresses {
        let recipient: Address = address.parse().map_err(bad)?;
        match line.command(Rcpt::new(recipient, Vec::new())) {
            Ok(_) => accepted += 1,
            Err(error) => {
                say(Said::Step(format!("{address} is refused: {}", words(&error))));
                let trouble = trouble(&error);
                // As long as one may be taken later, so may all.
                if !matches!((&refused, &trouble), (Some(Trouble::Later(..)), Trouble::ForGood(_))) {
                    refused = Some(trouble);
                }
            }
        }
    }
    if let (0, Some(refused)) = (accepted, refused) {
        return Err(refused);
    }
    line.command(Data).map_err(|error| trouble(&error))?;
    line.message(&written.formatted()).map_err(|error| trouble(&error))
}

fn trouble(error: &Smtp) -> Trouble {
    if error.is_permanent() { Trouble::ForGood(words(error)) } else { Trouble::Later(words(error), None) }
}

fn words(error: &Smtp) -> String {
    if error.is_response() {
        return "what it answers is no mail server's".to_owned();
    }
    let cause = std::error::Error::source(error);
    let code = error.status().map(|code| format!("it answers {code}")).unwrap_or_default();
    let cause_words = cause.map(ToString::to_string).unwrap_or_default();
    let io = cause.and_then(|cause| cause.downcast_ref::<std::io::Error>());
    match (io, code.as_str(), cause_words.as_str()) {
        (Some(error), ..) => network::words(error),
        (None, "", "") => clean(error.to_string().as_bytes()),
        (None, "", cause) => clean(cause.as_bytes()),
        (None, code, cause) => format!("{code} {}", clean(cause.as_bytes())),
    }
}

fn first_line(answer: &Response) -> String {
    clean(format!("{} {}", answer.code(), answer.first_line().unwrap_or_default()).as_bytes())
}

/// The mail itself.
fn written(to: &Mail, messages: &[Message]) -> Result<Written, String> {
    let mailbox =
        |text: &String| text.parse().map(|address| Mailbox::new(None, address)).map_err(|error| format!("{error}"));
    let mut mail =
        Written::builder().from(mailbox(&to.from)?).date_now().header(AutoSubmitted).header(ContentType::TEXT_PLAIN);
    for address in &to.addresses {
        mail = mail.to(mailbox(address)?);
    }
    let first = messages.first().ok_or("there is nothing to tell")?;
    mail = threaded(mail, to, first, messages);
    mail.subject(subject(first, messages)).body(body(first, messages)).map_err(|error| error.to_string())
}

/// A mail about one case belongs to that by which it opened; the same messages are the same mail.
fn threaded(mail: MessageBuilder, to: &Mail, first: &Message, messages: &[Message]) -> MessageBuilder {
    let place = to.from.split_once('@').map_or("localhost", |(_, place)| place);
    let id = |of: &str| format!("<{}.{}@{place}>", name(of), name(&first.host));
    let own = || match messages.len() {
        1 => id(&first.id),
        count => id(&format!("{}.{count}", first.id)),
    };
    let case = first.case.filter(|_| messages.iter().all(|message| message.case == first.case));
    let Some(case) = case.map(|case| id(&format!("case-{case}"))) else { return mail.message_id(Some(own())) };
    match messages.iter().any(|message| message.word == OPENED) {
        true => mail.message_id(Some(case)),
        false => mail.message_id(Some(own())).in_reply_to(case.clone()).references(case),
    }
}

fn subject(first: &Message, messages: &[Message]) -> String {
    // Of one case by its worst, and of these the latest.
    let of_one = messages.iter().all(|message| message.case.is_some() && message.case == first.case);
    let worst_one = messages.iter().max_by_key(|message| message.severity).filter(|_| of_one || messages.len() == 1);
    if let Some(worst) = worst_one {
        return worst.heading();
    }
    let cases: SortedSet<u64> = messages.iter().filter_map(|message| message.case).collect();
    let count = match cases.len() {
        0 => counted(messages.len(), "message"),
        cases => counted(cases, "case"),
    };
    let since = first.when.get(11..16).unwrap_or(&first.when);
    format!("[{}] {count} since {since}, worst {}", first.host, worst(messages).word())
}

fn worst(messages: &[Message]) -> Severity {
    messages.iter().map(|message| message.severity).max().unwrap_or(Severity::Notice)
}

fn body(first: &Message, messages: &[Message]) -> String {
    let mut sorted: Vec<&Message> = messages.iter().collect();
    sorted.order_by_key(|message| std::cmp::Reverse(message.severity));
    let mut body = String::new();
    for message in sorted {
        let Message { severity, when, line, id, .. } = message;
        body.push_str(&format!("{}, {when}\n{line}\n[{id}]\n\n", severity.word()));
    }
    let case = messages.iter().max_by_key(|message| message.severity).and_then(|message| message.case);
    let what = case.map_or_else(|| "sophron audit".to_owned(), |case| format!("sophron audit explain {case}"));
    body.push_str(&format!("What led to it, and what was done, on {}:\n    {what}\n", first.host));
    body
}

/// In letters that can stand in a machine's name and in a mail's ID.
fn name(text: &str) -> String {
    let one = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '.') { c } else { '-' };
    text.chars().map(one).take(200).collect()
}

/// `Auto-Submitted: auto-generated` (RFC 3834): nobody's holiday answers it.
#[derive(Clone)]
struct AutoSubmitted;

impl Header for AutoSubmitted {
    fn name() -> HeaderName {
        HeaderName::new_from_ascii_str("Auto-Submitted")
    }

    fn parse(_: &str) -> Result<Self, Box<dyn std::error::Error + Send + Sync>> {
        Ok(AutoSubmitted)
    }

    fn display(&self) -> HeaderValue {
        HeaderValue::new(Self::name(), "auto-generated".to_owned())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use sophron_core::telling::Server;

    use super::*;

    fn message(seq: u64, case: u64, word: &str, severity: Severity) -> Message {
        let at = &jiff::Zoned::default();
        let brief = format!("labelpress (ines) {word}");
        let (line, id, word) =
            (format!("case {case} {word}: labelpress"), format!("abcdef012345-{seq}"), word.to_owned());
        Message {
            seq,
            id,
            severity,
            case: Some(case),
            word,
            brief,
            line,
            ..Message::trial(at, "mossgate-desk-03", "x")
        }
    }

    fn mail(messages: &[Message]) -> String {
        let server = Server { host: "mail.mossgate.example".to_owned(), port: 587 };
        let (from, addresses) = ("sophron@mossgate.example".to_owned(), vec!["desk@mossgate.example".to_owned()]);
        let to = Mail { server, secure: Secure::StartTls, user: None, from, addresses };
        String::from_utf8(written(&to, messages).unwrap().formatted()).unwrap()
    }

    fn header<'m>(mail: &'m str, name: &str) -> Option<&'m str> {
        mail.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": "))
    }

    /// What belongs to one case belongs together; several are one mail, the worst first.
    #[test]
    fn mails() {
        let case = "<case-47.mossgate-desk-03@mossgate.example>";
        let opened = mail(&[message(417, 47, "opened", Severity::Warning)]);
        assert_eq!((header(&opened, "Message-ID"), header(&opened, "In-Reply-To")), (Some(case), None));
        let goes_on = mail(&[message(420, 47, "suspended", Severity::Warning)]);
        assert_eq!(header(&goes_on, "In-Reply-To"), Some(case));
        assert_eq!(header(&goes_on, "Message-ID"), Some("<abcdef012345-420.mossgate-desk-03@mossgate.example>"));
        let both = [message(430, 48, "calm", Severity::Notice), message(431, 49, "opened", Severity::Critical)];
        let digest = mail(&both);
        assert_eq!(header(&digest, "In-Reply-To"), None);
        assert_eq!(header(&digest, "Subject"), Some("[mossgate-desk-03] 2 cases since 00:00, worst critical"));
        let (_, body) = digest.split_once("\r\n\r\n").unwrap();
        insta::assert_snapshot!(body.replace("\r\n", "\n"), @r"
        critical, 1970-01-01 00:00:00 UTC
        case 49 opened: labelpress
        [abcdef012345-431]

        notice, 1970-01-01 00:00:00 UTC
        case 48 calm: labelpress
        [abcdef012345-430]

        What led to it, and what was done, on mossgate-desk-03:
            sophron audit explain 49
        ");
        let id = |mail: &str| header(mail, "Message-ID").map(str::to_owned);
        assert_eq!(id(&mail(&both)), id(&digest), "the same again is the same mail");
    }
}
