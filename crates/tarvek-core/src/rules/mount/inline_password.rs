//! `mount/inline-password`.

use crate::facts::configured::Flaw;
use crate::layout::mapping::MapSource;
use crate::rules::mount::of_mount;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::secret_key::HIDDEN;

/// A password that anybody reads.
pub static RULE: Rule = Rule {
    id: "mount/inline-password",
    severity: Severity::Risk,
    title: "A password stands in configuration",
    means: "Mount options, a Compose file, a unit or the like hold a password or token in plain \
            text. It is not shown here.",
    hurts: "These files are readable for every account, end up in backups and repositories, and \
            the password with them.",
    fix: "Keep it in a file of mode 0600 and name that: credentials=FILE for SMB mounts, env_file \
          or a secret for containers. Then change the password.",
    example: "fstab mounts //granary/media with password=….",
};

/// Judges the options of the layout, the tables of hosts, and their configuration.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let holds = MountOptions::hide_a_secret;
    let cut = |options: &MountOptions| match options.cut_a_secret() {
        true => "; a comma in it ends it, and the rest is taken for options (mount.cifs(8))",
        false => "",
    };
    let steps = |host: &Name, place: &str| {
        vec![Step::on(
            host,
            format!(
                "put it into a file of mode 0600, name that in {place} in its place (for SMB \
                 credentials=FILE), and change the password"
            ),
        )]
    };
    for mount in site.layout.mounts.iter().filter(|mount| holds(&mount.options)) {
        let cut = cut(&mount.options);
        let message = format!("the options of {} hold a password{cut}", mount.at);
        let part = Part::mount(&mount.host, &mount.at);
        let mut all = vec![without_secret(site, part, &mount.options)];
        all.extend(steps(&mount.host, "what mounts it"));
        findings.push(of_mount(&RULE, mount, cases).says(message).remedy(all));
    }
    for service in &site.layout.services {
        for map in service.maps() {
            let MapSource::Share(mount) = &map.source else { continue };
            if !holds(&mount.options) {
                continue;
            }
            let (to, cut) = (&map.to.written, cut(&mount.options));
            let message = format!("the options of what is mapped to {to} hold a password{cut}");
            let part = Part::mapping(&service.name, &map.to.written);
            let mut all = vec![without_secret(site, part, &mount.options)];
            all.extend(steps(&service.host, "the container's options"));
            let about = About::Service(service.name.clone());
            findings.push(
                RULE.finding(about)
                    .on(&service.host)
                    .line(map.origin.line)
                    .says(message)
                    .remedy(all),
            );
        }
    }
    for (host, facts) in site.observed() {
        for line in facts.fstab.iter().filter(|line| holds(&line.options)) {
            let (point, cut) = (&line.point, cut(&line.options));
            let message = format!("fstab of {host} has a password in the options of {point}{cut}");
            let about = About::Mount { host: host.clone(), at: line.point.clone() };
            findings.push(
                RULE.finding(about)
                    .on(host)
                    .known(Evidence::Observed)
                    .says(message)
                    .remedy(steps(host, "fstab")),
            );
        }
        for (spot, flaw) in &facts.told.configured.flaws {
            let Flaw::Secret(_) = flaw else { continue };
            let message = format!("{spot} of {host} holds a password or the like");
            let finding = RULE
                .finding(About::Host(host.clone()))
                .on(host)
                .written(spot)
                .known(Evidence::Observed);
            findings.push(finding.says(message).remedy(steps(host, &spot.to_string())));
        }
    }
    findings
}

/// The step that leaves of the options those without a secret.
fn without_secret(site: &Site, part: Part, options: &MountOptions) -> Step {
    let open = options.iter().filter(|option| !option.contains(HIDDEN));
    let open: MountOptions = open.collect();
    match open.is_empty() {
        true => site.layout.remove(part, "options"),
        false => site.layout.set(part, "options", open.to_string()),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::configured::Flaw;
    use crate::facts::mounts::FstabEntry;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, abs};
    use crate::words::options::MountOptions;
    use crate::words::spot::Spot;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                scene.layout.mounts[0].options =
                    MountOptions::read("ro,nofail,uid=840,password=hedge");
            })
        },
        by_hand: |scene| scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=840"),
    };

    #[test]
    fn a_password_is_told_of_and_not_told() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.messages_of(&RULE), "");
        let options = MountOptions::read("ro,nofail,username=lantern,password=hedge");
        scene.facts("millrace").fstab = vec![FstabEntry {
            source: "//granary.lan/media".into(),
            point: abs("/mnt/media"),
            filesystem: "cifs".into(),
            options: options.clone(),
        }];
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "fstab of millrace has a password in the options of /mnt/media → \
                                  on millrace: put it"
            ),
            "{told}"
        );
        scene.facts("millrace").fstab.clear();
        scene.layout.mounts[0].options = options;
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "the options of /mnt/media hold a password → in the layout line 4: set options ="
            ) && !told.contains("hedge"),
            "{told}"
        );
        scene.layout.mounts[0].options = MountOptions::read("ro,password=hed,ge,nofail");
        let told = scene.messages_of(&RULE);
        assert!(told.contains("a comma in it ends it") && !told.contains("ge,"), "{told}");
        scene.layout.mounts[0].options = MountOptions::read("ro,nofail");
        let spot = Spot { file: "/etc/systemd/system/mnt.mount".into(), line: 3 };
        scene.facts("millrace").told.configured.flaws = vec![(spot, Flaw::Secret("a unit"))];
        assert!(scene.messages_of(&RULE).starts_with(
            "/etc/systemd/system/mnt.mount:3 of millrace holds a password or the like"
        ));
    }
}
