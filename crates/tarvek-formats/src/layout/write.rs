//! From a [`Layout`] to the text of its file, with a comment before each part that has one.

use tarvek_core::kernel::subject::IdRange;
use tarvek_core::layout::folder::Right;
use tarvek_core::layout::host::{Dataset, Host};
use tarvek_core::layout::intake::Intake;
use tarvek_core::layout::mapping::{Declared, MapSource, Mapping};
use tarvek_core::layout::mount::{Mount, MountSource};
use tarvek_core::layout::service::{GroupRef, Library, RunAs, Service, Translation};
use tarvek_core::layout::settings::Silence;
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::NfsExport;
use tarvek_core::words::part::Part;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::rule::{RuleId, Severity};
use tarvek_core::words::terms::{Access, Account, Group, Os};

/// A layout as text. `notes` gives the comments for a part.
pub fn write(layout: &Layout, notes: &dyn Fn(&Part) -> Vec<String>) -> String {
    let mut out = Writer { text: String::new(), notes };
    out.text += "tarvek = 1\n";
    out.line("site", &named(&layout.site));
    layout.hosts.iter().for_each(|host| out.host(host));
    layout.shares.iter().for_each(|share| out.share(share));
    for folder in &layout.folders {
        out.part("[[folder]]", &Part::folder(&folder.host, &folder.path));
        out.line("host", &named(&folder.host));
        out.line("path", &path(&folder.path));
        out.maybe("owner", folder.owner.as_ref().map(named));
        out.maybe("group", folder.group.as_ref().map(named));
        out.maybe("mode", folder.mode.map(octal));
        let right =
            |(who, right): &(Name, Right)| format!("{} = {}", key(who.raw()), quoted(right.word()));
        if !folder.rights.is_empty() {
            out.line("rights", &braces(folder.rights.iter().map(right)));
        }
        out.maybe("is", folder.purpose.map(|purpose| quoted(purpose.word())));
    }
    layout.mounts.iter().for_each(|mount| out.mount(layout, mount));
    layout.services.iter().for_each(|service| out.service(service));
    layout.intakes.iter().for_each(|intake| out.intake(intake));
    out.waste(layout);
    out.rules(layout);
    out.text
}

struct Writer<'a> {
    text: String,
    notes: &'a dyn Fn(&Part) -> Vec<String>,
}

impl Writer<'_> {
    fn line(&mut self, name: &str, value: &str) {
        self.text += &format!("{name} = {value}\n");
    }

    fn maybe(&mut self, name: &str, value: Option<String>) {
        if let Some(value) = value {
            self.line(name, &value);
        }
    }

    fn comments(&mut self, about: &Part) {
        for note in (self.notes)(about) {
            for line in wrapped(&note) {
                self.text += &format!("# {line}\n");
            }
        }
    }

    fn part(&mut self, header: &str, about: &Part) {
        self.text.push('\n');
        self.comments(about);
        self.text += &format!("{header}\n");
    }

    fn host(&mut self, host: &Host) {
        let name = format!("host.{}", key(host.name.raw()));
        self.part(&format!("[{name}]"), &Part::Host(host.name.clone()));
        self.line("role", &one_or_many(host.roles.iter().map(|role| role.word())));
        self.maybe("os", (host.os != Os::Linux).then(|| quoted(host.os.word())));
        if !host.addresses.is_empty() {
            self.line("addresses", &list(host.addresses.iter().map(named)));
        }
        self.maybe("inside", host.inside.as_ref().map(named));
        if !host.map.is_empty() {
            self.lines_of("map", host.map.iter().map(mapping).collect());
        }
        if !host.idmap.is_empty() {
            self.line("idmap", &list(host.idmap.iter().map(id_range)));
        }
        self.maybe("selinux", host.selinux.map(|on| on.to_string()));
        self.maybe("manage_gids", host.manage_gids.then(|| "true".to_owned()));
        if !host.datasets.is_empty() {
            self.text += "datasets = [\n";
            for dataset in &host.datasets {
                let part = Part::Dataset { host: host.name.clone(), name: dataset.name.clone() };
                for note in (self.notes)(&part) {
                    self.text += &format!("  # {note}\n");
                }
                self.text += &format!("  {},\n", self::dataset(dataset));
            }
            self.text += "]\n";
        }
        if !host.groups.is_empty() {
            let group = |g: &Group| format!("{} = {}", key(g.name.raw()), g.gid);
            self.line("groups", &braces(host.groups.iter().map(group)));
        }
        if !host.accounts.is_empty() {
            self.text += &format!("\n[{name}.accounts]\n");
            for account in &host.accounts {
                self.line(&key(account.name.raw()), &self::account(account));
            }
        }
    }

    fn lines_of(&mut self, name: &str, items: Vec<String>) {
        self.text += &format!("{name} = [\n");
        for item in items {
            self.text += &format!("  {item},\n");
        }
        self.text += "]\n";
    }

    fn share(&mut self, share: &Share) {
        self.part(&format!("[share.{}]", key(share.name.raw())), &Part::Share(share.name.clone()));
        self.line("host", &named(&share.host));
        self.line("path", &path(&share.path));
        if !share.nfs.is_empty() {
            self.line("nfs", &list(share.nfs.iter().map(export)));
        }
        if let Some(smb) = &share.smb {
            let names = |names: &[Name]| list(names.iter().map(named));
            let mut parts = vec![format!("guests = {}", smb.guests)];
            let flag = |word: &str, on: bool| on.then(|| format!("{word} = true"));
            parts.extend(flag("guest_only", smb.guest_only));
            parts.extend(flag("writable", smb.writable));
            for (word, list) in [
                ("only", &smb.only),
                ("deny", &smb.deny),
                ("read", &smb.read),
                ("write", &smb.write),
                ("admins", &smb.admins),
            ] {
                if !list.is_empty() {
                    parts.push(format!("{word} = {}", names(list)));
                }
            }
            parts.extend(smb.force_user.iter().map(|u| format!("force_user = {}", named(u))));
            parts.extend(smb.force_group.iter().map(|g| format!("force_group = {}", named(g))));
            parts.extend(smb.create_mask.map(|m| format!("create_mask = {}", octal(m))));
            parts.extend(smb.folder_mask.map(|m| format!("folder_mask = {}", octal(m))));
            for (word, mode) in [
                ("force_create_mode", smb.force_create_mode),
                ("force_folder_mode", smb.force_folder_mode),
            ] {
                parts.extend(mode.map(|mode| format!("{word} = {}", octal(mode))));
            }
            parts.extend(flag("recycle", smb.recycle));
            self.line("smb", &format!("{{ {} }}", parts.join(", ")));
        }
        if !share.also.is_empty() {
            self.line("also", &list(share.also.iter().map(|also| quoted(also.word()))));
        }
    }

    fn mount(&mut self, layout: &Layout, mount: &Mount) {
        self.part("[[mount]]", &Part::mount(&mount.host, &mount.at));
        self.line("host", &named(&mount.host));
        self.line("from", &named(&layout.source(&mount.from)));
        self.line("protocol", &quoted(mount.protocol.word()));
        let windows = layout.host(&mount.host).is_some_and(|host| host.os == Os::Windows);
        let at = if windows {
            quoted(String::from_utf8_lossy(mount.at.as_bytes()).trim_start_matches('/'))
        } else {
            path(&mount.at)
        };
        self.line("at", &at);
        if !mount.options.is_empty() {
            self.line("options", &quoted(&mount.options.to_string()));
        }
        self.maybe("user", mount.user.as_ref().map(named));
        self.maybe("credentials", mount.credentials.as_ref().map(path));
        if mount.removable {
            self.line("removable", "true");
        }
    }

    fn service(&mut self, service: &Service) {
        let about = Part::Service(service.name.clone());
        self.part(&format!("[service.{}]", key(service.name.raw())), &about);
        self.line("host", &named(&service.host));
        self.line("role", &one_or_many(service.roles.iter().map(|role| role.word())));
        match &service.runs_as {
            RunAs::Unset => {}
            RunAs::Numbers(uid, None) => self.line("runs_as", &quoted(&uid.to_string())),
            RunAs::Numbers(uid, Some(gid)) => {
                self.line("runs_as", &quoted(&format!("{uid}:{gid}")))
            }
            RunAs::Account(name) => self.line("runs_as", &named(name)),
        }
        if !service.groups.is_empty() {
            let group = |group: &GroupRef| match group {
                GroupRef::Gid(gid) => quoted(&gid.to_string()),
                GroupRef::Name(name) => named(name),
            };
            self.line("groups", &list(service.groups.iter().map(group)));
        }
        self.maybe("umask", service.umask.map(octal));
        self.maybe("userns", service.userns.as_ref().map(|ns| quoted(&ns.to_string())));
        if let Some(map) = &service.map {
            self.lines_of("map", map.iter().map(mapping).collect());
        }
        if !service.translate.is_empty() {
            self.lines_of("translate", service.translate.iter().map(translation).collect());
        }
        if !service.ports.is_empty() {
            self.line("ports", &list(service.ports.iter().map(|p| quoted(p))));
        }
        self.maybe("network", service.network.as_deref().map(quoted));
        self.maybe("config", service.config.as_ref().map(path));
        let volume = service.config_volume.as_ref();
        self.maybe("config", volume.map(|volume| quoted(&format!("volume:{}", volume.raw()))));
        self.maybe("backup", service.backup.as_deref().map(quoted));
        if !service.libraries.is_empty() {
            self.lines_of("libraries", service.libraries.iter().map(library).collect());
        }
    }

    fn intake(&mut self, intake: &Intake) {
        let about = Part::Intake(intake.name.clone());
        self.part(&format!("[intake.{}]", key(intake.name.raw())), &about);
        if let Some(fetch) = &intake.fetch {
            let mut parts = vec![format!("service = {}", named(&fetch.service))];
            parts.extend(fetch.partial.as_ref().map(|p| format!("partial = {}", path(p))));
            parts.push(format!("done = {}", path(&fetch.done)));
            parts.extend(fetch.category.iter().map(|c| format!("category = {}", quoted(c))));
            self.line("fetch", &format!("{{ {} }}", parts.join(", ")));
        }
        if let Some(sort) = &intake.sort {
            let mut parts = vec![
                format!("service = {}", named(&sort.service)),
                format!("reads = {}", path(&sort.reads)),
                format!("files_into = {}", path(&sort.files_into)),
            ];
            parts.extend(sort.category.iter().map(|c| format!("category = {}", quoted(c))));
            self.line("sort", &format!("{{ {} }}", parts.join(", ")));
        }
        self.line("want", &quoted(intake.want.word()));
    }

    fn waste(&mut self, layout: &Layout) {
        let leftovers = &layout.waste.leftovers;
        if !leftovers.is_empty() {
            self.part("[waste]", &Part::Site);
            self.line("leftovers", &list(leftovers.iter().map(|pattern| quoted(pattern))));
        }
    }

    fn rules(&mut self, layout: &Layout) {
        let rules = &layout.rules;
        if rules.severity.is_empty() && rules.silence.is_empty() {
            return;
        }
        self.part("[rules]", &Part::Rules);
        if !rules.severity.is_empty() {
            let one = |(rule, severity): &(RuleId, Severity)| {
                format!("{} = {}", quoted(rule.id), quoted(severity.word()))
            };
            self.line("severity", &braces(rules.severity.iter().map(one)));
        }
        let silence = |silence: &Silence| {
            let mut parts = vec![format!("rule = {}", quoted(silence.rule.id))];
            parts.extend(silence.below.as_ref().map(|p| format!("where = {}", path(p))));
            parts.push(format!("why = {}", quoted(&silence.why)));
            format!("{{ {} }}", parts.join(", "))
        };
        if !rules.silence.is_empty() {
            self.lines_of("silence", rules.silence.iter().map(silence).collect());
        }
    }
}

pub(super) fn dataset(dataset: &Dataset) -> String {
    let mut parts =
        vec![format!("name = {}", named(&dataset.name)), format!("at = {}", path(&dataset.at))];
    parts.extend(dataset.filesystem.iter().map(|f| format!("filesystem = {}", named(f))));
    parts.extend(dataset.quota.map(|q| format!("quota = {}", quoted(&format!("{q}B")))));
    if !dataset.properties.is_empty() {
        let property =
            |(name, value): &(String, String)| format!("{} = {}", key(name), quoted(value));
        let mut properties = dataset.properties.clone();
        properties.sort();
        let all = braces(properties.iter().map(property));
        parts.push(format!("properties = {all}"));
    }
    format!("{{ {} }}", parts.join(", "))
}

pub(super) fn account(account: &Account) -> String {
    let mut parts = vec![format!("uid = {}", account.uid)];
    parts.extend(account.gid.map(|gid| format!("gid = {gid}")));
    if !account.groups.is_empty() {
        parts.push(format!("groups = {}", list(account.groups.iter().map(named))));
    }
    format!("{{ {} }}", parts.join(", "))
}

pub(super) fn id_range(range: &IdRange) -> String {
    let IdRange { inside, outside, count } = range;
    format!("{{ inside = {inside}, outside = {outside}, count = {count} }}")
}

pub(super) fn export(export: &NfsExport) -> String {
    let mut parts = vec![
        format!("clients = {}", named(&export.clients)),
        format!("access = {}", quoted(export.access.word())),
        format!("squash = {}", quoted(export.squash.word())),
    ];
    parts.extend(export.anonuid.map(|id| format!("anonuid = {id}")));
    parts.extend(export.anongid.map(|id| format!("anongid = {id}")));
    if export.crossmnt {
        parts.push("crossmnt = true".into());
    }
    if !export.options.is_empty() {
        parts.push(format!("options = {}", quoted(&export.options.join(","))));
    }
    format!("{{ {} }}", parts.join(", "))
}

pub(super) fn mapping(map: &Mapping) -> String {
    let mut parts = match &map.source {
        MapSource::Folder(from) => vec![format!("from = {}", written(from))],
        MapSource::Share(mount) => {
            let from = match &mount.from {
                MountSource::Share(name) => format!("share = {}", named(name)),
                MountSource::Literal(source) => format!("source = {}", named(source)),
            };
            let mut parts = vec![from, format!("protocol = {}", quoted(mount.protocol.word()))];
            if !mount.options.is_empty() {
                parts.push(format!("options = {}", quoted(&mount.options.to_string())));
            }
            let texts = [("below", &mount.below), ("user", &mount.user), ("volume", &mount.volume)];
            for (key, text) in texts {
                parts.extend(text.iter().map(|text| format!("{key} = {}", named(text))));
            }
            let credentials = mount.credentials.as_ref();
            parts.extend(credentials.map(|file| format!("credentials = {}", path(file))));
            parts
        }
        MapSource::Volume(volume) => vec![format!("volume = {}", named(volume))],
    };
    parts.push(format!("to = {}", written(&map.to)));
    if map.access == Access::ReadOnly {
        parts.push("access = \"ro\"".into());
    }
    parts.extend(map.label.map(|label| format!("label = {}", quoted(label.word()))));
    parts.extend(map.propagation.iter().map(|p| format!("propagation = {}", quoted(p))));
    parts.extend(map.nested.map(|nested| format!("nested = {}", quoted(nested.word()))));
    parts.extend(map.idmap.then(|| "idmap = true".to_owned()));
    format!("{{ {} }}", parts.join(", "))
}

fn translation(translation: &Translation) -> String {
    let (from, to) = (written(&translation.from), written(&translation.to));
    format!("{{ service = {}, from = {from}, to = {to} }}", named(&translation.service))
}

fn library(library: &Library) -> String {
    let mut parts = vec![
        format!("name = {}", named(&library.name)),
        format!("kind = {}", quoted(library.kind.word())),
        format!("roots = {}", list(library.roots.iter().map(written))),
    ];
    if library.original {
        parts.push("original = true".into());
    }
    parts.extend(library.backup.iter().map(|b| format!("backup = {}", quoted(b))));
    if !library.prefer.0.is_empty() {
        let words: Vec<String> = library.prefer.0.iter().map(ToString::to_string).collect();
        parts.push(format!("prefer = {}", quoted(&words.join(", "))));
    }
    format!("{{ {} }}", parts.join(", "))
}

pub(super) fn named(name: &Name) -> String {
    quoted(name.raw())
}

pub(super) fn quoted(text: &str) -> String {
    toml::Value::from(text).to_string()
}

/// A bare key where TOML takes one.
pub(super) fn key(name: &str) -> String {
    let bare = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-');
    if !name.is_empty() && name.bytes().all(bare) { name.to_owned() } else { quoted(name) }
}

fn path(path: &AbsPath) -> String {
    let written = path.as_client_writes();
    quoted(&String::from_utf8_lossy(written.as_deref().unwrap_or(path.as_bytes())))
}

fn written(declared: &Declared) -> String {
    named(&declared.written)
}

fn octal(mode: u16) -> String {
    format!("\"{mode:04o}\"")
}

fn list(items: impl Iterator<Item = String>) -> String {
    format!("[{}]", items.collect::<Vec<_>>().join(", "))
}

fn braces(items: impl Iterator<Item = String>) -> String {
    format!("{{ {} }}", items.collect::<Vec<_>>().join(", "))
}

fn one_or_many<'a>(words: impl Iterator<Item = &'a str>) -> String {
    let words: Vec<String> = words.map(quoted).collect();
    if words.len() == 1 { words[0].clone() } else { list(words.into_iter()) }
}

/// A comment in lines of about a hundred columns.
fn wrapped(text: &str) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split_whitespace() {
        let line = lines.last_mut().expect("there is one");
        if line.is_empty() {
            line.push_str(word);
        } else if line.chars().count() + word.chars().count() < 98 {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(format!("  {word}"));
        }
    }
    lines
}
