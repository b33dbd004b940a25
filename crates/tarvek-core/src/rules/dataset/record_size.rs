//! `dataset/record-size`.

use crate::rules::dataset::{Used, used};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;
use crate::words::text::size;

/// Records that are too small for the files.
pub static RULE: Rule = Rule {
    id: "dataset/record-size",
    severity: Severity::Note,
    title: "Small records for large files",
    means: "A ZFS dataset with films or episodes has a record size below 1M.",
    hurts: "A film is cut into many more pieces than it needs: more metadata, more work for disks, \
            worse compression.",
    fix: "Set recordsize=1M; what is written from then on has it.",
    example: "loft/media was made with the default of 128K.",
};

/// Judges every dataset in which a library lies.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let large = |case: &&UsedPath| {
        let kind = case.library().map(|library| library.kind);
        matches!(kind, Some(Kind::Films | Kind::Series | Kind::HomeVideo))
    };
    let told = |used: &Used| {
        let (value, evidence) = used.property("recordsize")?;
        let small = size(value.raw()).is_some_and(|size| size < 1 << 20);
        let message = format!("{} holds large files and has recordsize={value}", used.dataset.name);
        let finding = used.finding(&RULE).known(evidence).says(message);
        (small && used.users.iter().any(large)).then(|| finding.remedy(used.set("recordsize=1M")))
    };
    used(site, cases).iter().filter_map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing};
    use crate::tests::Scene;
    use crate::words::terms::Kind;

    pub(crate) const PROMISE: Promise =
        Promise { scene: || Scene::with_dataset(&[], &[("recordsize", "128K")]), by_hand: nothing };

    #[test]
    fn small_records_are_told_where_large_files_lie() {
        let told = "loft/media holds large files and has recordsize=128K → on granary: zfs set \
                    recordsize=1M loft/media";
        assert_eq!(Scene::with_dataset(&[], &[("recordsize", "128K")]).messages_of(&RULE), told);
        assert_eq!(
            Scene::with_dataset(&[("recordsize", "128K")], &[("recordsize", "1M")])
                .messages_of(&RULE),
            ""
        );
        let mut books = Scene::with_dataset(&[("recordsize", "131072")], &[]);
        assert_eq!(books.messages_of(&RULE).lines().count(), 1);
        books.service("lantern").libraries[0].kind = Kind::Books;
        assert_eq!(books.messages_of(&RULE), "");
    }
}
