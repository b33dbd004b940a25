//! Mount options (`mount(8)`, `fstab(5)`, `proc_pid_mountinfo(5)`).

use std::fmt;

use crate::words::secret;
use crate::words::secret_key::HIDDEN;
use crate::words::terms::Access;

/// Options in their order, without secrets.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MountOptions(Vec<String>);

impl MountOptions {
    /// From text, separated by commas that stand in no quotation marks. A secret among them is
    /// hidden, also one that has commas itself; whitespace around one means nothing.
    pub fn read(text: &str) -> Self {
        let text = secret::hide(text);
        let mut quoted = false;
        let options = text.split(|c| {
            quoted ^= c == '"';
            c == ',' && !quoted
        });
        let options = options.map(str::trim).filter(|option| !option.is_empty());
        let mut options: Vec<String> = options.map(str::to_owned).collect();
        // How many commas it has is nobody's business.
        options.dedup_by(|next, before| next == HIDDEN && before == HIDDEN);
        Self(options)
    }

    /// One by one.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &str> {
        self.0.iter().map(String::as_str)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether an option without a value stands among them.
    pub fn has(&self, option: &str) -> bool {
        self.0.iter().any(|known| known == option)
    }

    /// The value of `key=value`; of several the last counts.
    pub fn value(&self, key: &str) -> Option<&str> {
        self.iter().rev().find_map(|option| option.strip_prefix(key)?.strip_prefix('='))
    }

    /// Whether a secret stood among them.
    pub fn hide_a_secret(&self) -> bool {
        self.iter().any(|option| option.contains(HIDDEN))
    }

    /// Whether a secret has a comma, which ends it for mount.cifs(8): what follows is an option.
    pub fn cut_a_secret(&self) -> bool {
        self.has(HIDDEN)
    }

    /// The same without those that have one of some names, whatever their value.
    pub fn without(&self, names: &[&str]) -> Self {
        let named = |option: &&str| names.contains(&option.split('=').next().unwrap_or(option));
        self.iter().filter(|option| !named(option)).collect()
    }

    /// The same with more of them, each in the place of those that have its name.
    pub fn with(&self, more: &[&str]) -> Self {
        let names: Vec<&str> =
            more.iter().map(|option| option.split('=').next().unwrap_or(option)).collect();
        let rest = self.without(&names);
        rest.iter().chain(more.iter().copied()).collect()
    }

    /// Whether it is mounted read-only: of `ro` and `rw` the last counts.
    pub fn access(&self) -> Access {
        match self.iter().rev().find(|option| matches!(*option, "ro" | "rw")) {
            Some("ro") => Access::ReadOnly,
            _ => Access::ReadWrite,
        }
    }

    /// Whether [`MountOptions::access`] says so.
    pub fn read_only(&self) -> bool {
        self.access() == Access::ReadOnly
    }
}

impl fmt::Display for MountOptions {
    /// As `mount(8)` takes them.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.join(","))
    }
}

impl<S: Into<String>> FromIterator<S> for MountOptions {
    fn from_iter<I: IntoIterator<Item = S>>(options: I) -> Self {
        Self(options.into_iter().map(Into::into).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_one_wins_and_secrets_are_hidden() {
        for (text, access) in
            [("", "rw"), ("ro,nofail", "ro"), ("ro,noatime,rw", "rw"), ("rw, ro", "ro")]
        {
            assert_eq!(MountOptions::read(text).access().word(), access, "{text}");
        }
        let quoted = MountOptions::read("context=\"a,ro\",password=x,y,z=1,rw");
        assert_eq!(quoted.to_string(), "context=\"a,ro\",password=[hidden],[hidden],rw");
        let options = MountOptions::read("uid=1,,uid=2 ,password=x,guest");
        assert_eq!(options.to_string(), "uid=1,uid=2,password=[hidden],guest");
        assert_eq!((options.value("uid"), options.value("gid")), (Some("2"), None));
        assert!(options.has("guest") && !options.has("uid"));
    }
}
