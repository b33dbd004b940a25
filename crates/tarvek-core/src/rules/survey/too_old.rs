//! `survey/too-old`.

use crate::rules::survey::of_host;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::ago;

/// A survey that is older than was asked for.
pub static RULE: Rule = Rule {
    id: "survey/too-old",
    severity: Severity::Risk,
    title: "A survey is older than allowed",
    means: "What is known of the host was seen longer ago than --max-age allows.",
    hurts: "The verdict may be true of a host that is no more.",
    fix: "Survey the host again, into the same file: only what changed is read.",
    example: "A nightly check with --max-age 2d; the storage host's survey has not been renewed \
              for a week.",
};

/// Judges every host that was looked at.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let Some(most) = site.max_age else { return Vec::new() };
    let told = |(host, taken): (_, i64)| {
        let age = site.now.saturating_sub(taken);
        let message =
            format!("{host} was seen {} ago; at most {} are allowed", ago(age), ago(most));
        (age > most).then(|| of_host(&RULE, host).says(message))
    };
    site.observed().map(|(host, facts)| (host, facts.taken)).filter_map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::{RULE, find};
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.facts("granary").taken = -10),
        by_hand: |scene| scene.facts("granary").taken = 0,
    };

    #[test]
    fn age_counts_where_a_limit_is_given() {
        let mut scene = Scene::local();
        scene.facts("granary").taken = 1000;
        let mut site = scene.site();
        site.now = 1000 + 3 * 86_400;
        assert_eq!(find(&site, &[]), []);
        site.max_age = Some(3 * 86_400);
        assert_eq!(find(&site, &[]), []);
        site.max_age = Some(2 * 86_400);
        let findings = find(&site, &[]);
        assert_eq!(findings[0].rule, &RULE);
        assert_eq!(findings[0].message, "granary was seen 3 days ago; at most 2 days are allowed");
    }
}
