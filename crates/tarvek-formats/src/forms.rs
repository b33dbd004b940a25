//! Strings of a certain form in layouts and briefs: what goes into configuration where nothing can
//! be quoted.

use std::borrow::Cow;
use std::net::{Ipv4Addr, Ipv6Addr};

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use tarvek_core::words::text::shown;

use crate::mistake::Mistakes;
use crate::structure::At;

/// Strings of a certain form; the schema holds the form, and an example that messages show.
macro_rules! forms {
    ($($(#[$doc:meta])* $name:ident: $pattern:literal, $example:literal;)*) => {$(
        $(#[$doc])*
        #[derive(Clone, Debug, Deserialize, Serialize)]
        #[serde(transparent)]
        pub(crate) struct $name(pub(crate) String);

        impl From<String> for $name {
            fn from(text: String) -> Self {
                Self(text)
            }
        }

        impl JsonSchema for $name {
            fn schema_name() -> Cow<'static, str> {
                stringify!($name).into()
            }
            fn inline_schema() -> bool {
                true
            }
            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({ "type": "string", "pattern": $pattern, "examples": [$example] })
            }
        }
    )*};
}

forms! {
    /// Permission bits in octal digits.
    Octal: "^0?[0-7]{1,4}$", "0775";
    /// A size with a binary unit.
    Size: "^[0-9]+(\\.[0-9]+)? ?([KMGTP](iB|B)?|B)?$", "500G";
    /// A uid, a uid and gid, or an account.
    RunAs: "^([0-9]+(:[0-9]+)?|[A-Za-z_][A-Za-z0-9_.-]*)$", "840:840";
    /// A name or number under which a machine is reached.
    Address: "^[A-Za-z0-9_:][A-Za-z0-9._:-]{0,252}$", "granary.lan";
    /// What an engine calls a volume or a network.
    EngineName: "^[A-Za-z0-9][A-Za-z0-9_.-]{0,252}$", "lantern-config";
    /// A type of filesystem as `mount(8)` takes it.
    Filesystem: "^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$", "zfs";
    /// Whom `exports(5)` offers something: host, network, wildcard, netgroup or *.
    Clients: "^(@[A-Za-z0-9_.-]+|gss/krb5[ip]?|[A-Za-z0-9_.:*?\\[\\]][A-Za-z0-9_.:*?\\[\\]!^-]{0,252}(/[0-9.]+)?)$", "10.20.0.0/24";
    /// Options as `exports(5)` takes them, comma separated.
    ExportOptions: "^[A-Za-z0-9_.:=@/+,\\[\\]-]*$", "sec=krb5p,fsid=7";
    /// What fetching and sorting services call a sort of downloads; a folder is named after it.
    Category: "^[^%:=\"\\\\*?<>|@]{1,255}$", "films";
    /// A pattern of names, of folders with a slash at its end.
    LeftoverPattern: "^[^/]*[^/*?][^/]*/?$", "*.bak";
    /// Mount propagation (`mount_namespaces(7)`), as engines name it.
    Propagation: "^r?(private|slave|shared|unbindable)$", "rslave";
}

/// A published port, if it is one.
pub(crate) fn checked_port(port: At<String>, mistakes: &mut Mistakes) -> Option<String> {
    if is_port(&port.value) {
        return Some(port.value);
    }
    let message = format!("{:?} is no published port", shown(port.value.as_bytes()));
    let remedy = "write [ADDRESS:]HOST[:INSIDE][/PROTOCOL], such as 8100, 8100:80, 8100-8105 or \
                  10.20.0.7:8100:80/udp";
    mistakes.add(port.span, message, Some(remedy.to_owned()));
    None
}

/// Whether a text is `[ADDRESS:]HOST[:INSIDE][/PROTOCOL]`, an IPv6 address in brackets, both ports
/// ranges of one length if they are any.
fn is_port(written: &str) -> bool {
    let (rest, protocol) = written.split_once('/').unwrap_or((written, "tcp"));
    let range = |text: &str| {
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let (first, last) = (first.parse::<u16>().ok()?, last.parse::<u16>().ok()?);
        (first > 0 && first <= last).then(|| last - first)
    };
    let (address, numbers) = match rest.strip_prefix('[').and_then(|rest| rest.split_once("]:")) {
        Some((address, numbers)) => (address.parse::<Ipv6Addr>().is_ok(), numbers),
        None => match rest.split(':').next() {
            Some(first) if first.contains('.') => {
                let numbers = rest.split_once(':').map_or("", |(_, numbers)| numbers);
                (first.parse::<Ipv4Addr>().is_ok(), numbers)
            }
            _ => (true, rest),
        },
    };
    let lengths: Option<Vec<u16>> = numbers.split(':').map(range).collect();
    address
        && matches!(protocol, "tcp" | "udp")
        && lengths.is_some_and(|of| matches!(of.len(), 1 | 2) && of.iter().all(|n| *n == of[0]))
}
