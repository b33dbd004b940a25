//! Remedies are promises: of every rule, what it advises is carried out to the letter on a small
//! site. Then the rule is silent, no other fires that did not before, and nobody has lost anything
//! that was not said.

use std::collections::BTreeSet;

use crate::judge::everyone::everyone;
use crate::judge::verdict::Need;
use crate::kernel::entry::EntryKind;
use crate::rules::promise::Promise;
use crate::rules::registry;
use crate::tests::Scene;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::Rule;

fn findings(scene: &Scene) -> Vec<Finding> {
    let mut site = scene.site();
    // One age is too old; every other survey is of now.
    site.max_age = Some(5);
    let cases = crate::used::used_path::used_paths(&site);
    registry::find(&site, &cases)
}

fn ids(findings: &[Finding]) -> BTreeSet<&'static str> {
    findings.iter().map(|finding| finding.rule.id).collect()
}

/// Who may do what with which entry.
fn rights(scene: &Scene) -> BTreeSet<(String, String, &'static str)> {
    let site = scene.site();
    let mut all = BTreeSet::new();
    for (host, facts) in site.observed() {
        let tree = &facts.tree;
        for node in tree.below(crate::facts::tree::Tree::ROOT) {
            if tree.meta(node).kind == EntryKind::Symlink {
                continue;
            }
            let place = Place::new(host, tree.path(node));
            for party in everyone(&site, &place, true) {
                let needs = [Need::Read, Need::Write];
                for answer in party.may(&site, &needs).unwrap_or_default() {
                    if answer.is_allowed() {
                        all.insert((party.name.clone(), place.to_string(), answer.need.to()));
                    }
                }
            }
        }
    }
    all
}

#[test]
fn every_rule_keeps_what_its_remedy_promises() {
    for (Rule { id: rule, .. }, Promise { scene, by_hand }) in registry::PROMISES {
        let rule = *rule;
        let mut scene = scene();
        let before = findings(&scene);
        let told: Vec<Finding> = before.iter().filter(|f| f.rule.id == rule).cloned().collect();
        assert!(!told.is_empty(), "{rule} does not fire: {:?}", ids(&before));
        let had = rights(&scene);
        let mut said: Vec<String> = Vec::new();
        for finding in &told {
            assert!(!finding.remedy.steps.is_empty(), "{rule} offers nothing");
            said.extend(finding.remedy.effects.iter().cloned());
            for step in &finding.remedy.steps {
                match step {
                    Step::Run { on, run } => {
                        let words: Vec<String> = run
                            .words()
                            .iter()
                            .map(|word| String::from_utf8(word.clone()).unwrap())
                            .collect();
                        scene.run(on.raw(), &words.iter().map(String::as_str).collect::<Vec<_>>());
                    }
                    Step::Edit(edit) => {
                        assert!(scene.layout.edit(edit).is_some(), "{rule}: {step}");
                    }
                    Step::Do { .. } => {}
                }
            }
        }
        by_hand(&mut scene);
        let after = findings(&scene);
        let text: Vec<String> = told.iter().map(|finding| finding.remedy.to_string()).collect();
        assert!(
            !ids(&after).contains(rule),
            "{rule} still fires after {text:?}: {:#?}",
            after.iter().filter(|f| f.rule.id == rule).collect::<Vec<_>>()
        );
        let new: Vec<_> = ids(&after).difference(&ids(&before)).copied().collect();
        assert!(new.is_empty(), "{rule}: {text:?} makes {new:?} fire");
        // What is put elsewhere, or is another's from now on, is meant to be.
        let moved = [
            "layout/",
            "path/",
            "mount/",
            "identity/",
            "survey/",
            "share/",
            "label/",
            "name/",
            "library/mixed-kinds",
            "library/loose-files",
            "library/unrecognised-names",
            "library/same-title-twice",
            "library/inside-intake",
            "space/",
        ];
        if moved.iter().any(|family| rule.starts_with(family)) {
            continue;
        }
        for (who, place, what) in had.difference(&rights(&scene)) {
            let name =
                who.rsplit(':').next().unwrap_or_default().split('@').next().unwrap_or_default();
            // What was declared, or is itself what the rule is about, has been said.
            let meant = text.iter().chain(&said).any(|text| text.contains(name))
                || rule == "access/world-writable";
            assert!(meant, "{rule}: {who} can no longer {what} {place}: {text:?}, {said:?}");
        }
    }
}

#[test]
fn texts_of_rules_are_whole_sentences_in_one_line() {
    for rule in registry::rules() {
        for text in [rule.title, rule.means, rule.hurts, rule.fix, rule.example] {
            let is_plain = !text.contains("  ") && !text.contains(char::is_control);
            assert!(is_plain && text == text.trim() && !text.is_empty(), "{rule}: {text:?}");
        }
        for text in [rule.means, rule.hurts, rule.fix] {
            assert!(text.ends_with(['.', '!', '?', '`', ')']), "{rule}: {text:?}");
        }
    }
}
