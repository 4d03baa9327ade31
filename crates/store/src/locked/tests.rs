use std::fs;
use std::os::unix::fs::symlink;

use super::*;

fn change(files: &[(&str, Option<&str>)]) -> Changed {
    files.iter().map(|(path, text)| ((*path).to_owned(), text.map(str::to_owned))).collect()
}

fn take(root: &Path) -> Result<Locked, LockError> {
    Locked::take(root, Duration::ZERO)
}

/// A ledger in which a change of two files was interrupted between the two.
fn interrupted() -> tempfile::TempDir {
    let kept = tempfile::tempdir().unwrap();
    let root = kept.path();
    fs::create_dir_all(root.join("stages/dev")).unwrap();
    fs::write(root.join("shared.toml"), "1").unwrap();
    fs::write(root.join("stages/dev/a.toml"), "1").unwrap();
    let locked = take(root).unwrap();
    let changed = change(&[("shared.toml", Some("2")), ("stages/dev/a.toml", None)]);
    OpenChange::new(&locked.root, &changed).unwrap().put_down(&locked.state).unwrap();
    fs::write(root.join("shared.toml"), "2").unwrap();
    kept
}

fn read(root: &Path, path: &str) -> Option<String> {
    fs::read_to_string(root.join(path)).ok()
}

#[test]
fn a_change_is_made_whole_and_nobody_else_gets_in() {
    let kept = tempfile::tempdir().unwrap();
    let root = kept.path();
    let locked = take(root).unwrap();
    locked.write(&change(&[("shared.toml", Some("1")), ("stages/dev/b.toml", Some("1"))])).unwrap();
    assert!(matches!(take(root), Err(LockError::Busy(_))));
    assert_eq!(
        (read(root, "shared.toml"), read(root, "stages/dev/b.toml")),
        (Some("1".into()), Some("1".into()))
    );
    locked.write(&change(&[("shared.toml", None), ("stages/dev/b.toml", None)])).unwrap();
    assert!(!root.join("stages/dev").exists() && !root.join(".cledger/change").exists());
}

#[test]
fn what_has_no_plan_yet_has_not_happened() {
    let kept = interrupted();
    fs::remove_file(kept.path().join(".cledger/change/plan.json")).unwrap();
    assert!(Glance::at(&Folder::open(kept.path()).unwrap()).open.is_none());
    assert!(take(kept.path()).unwrap().settled().is_none());
    assert!(!kept.path().join(".cledger/change").exists());
}

#[test]
fn an_interrupted_change_is_read_as_made_and_settled_by_whoever_writes_next() {
    for (settle, expected) in
        [(Interrupted::Finish, (Some("2"), None)), (Interrupted::PutBack, (Some("1"), Some("1")))]
    {
        let kept = interrupted();
        let root = kept.path();
        let glance = Glance::at(&Folder::open(root).unwrap());
        assert_eq!(glance.after(), change(&[("shared.toml", Some("2")), ("stages/dev/a.toml", None)]));
        assert!(root.join(".cledger/change/plan.json").exists(), "whoever reads changes nothing");
        let locked = Locked::settle(root, Duration::ZERO, settle).unwrap();
        assert_eq!(locked.settled().map(|open| open.files.len()), Some(2));
        let now = (read(root, "shared.toml"), read(root, "stages/dev/a.toml"));
        assert_eq!((now.0.as_deref(), now.1.as_deref()), expected);
        assert!(!root.join(".cledger/change").exists());
    }
}

#[test]
fn what_was_edited_since_is_never_overwritten() {
    for settle in [Interrupted::FinishRest, Interrupted::PutBack] {
        let kept = interrupted();
        let root = kept.path();
        fs::write(root.join("stages/dev/a.toml"), "by hand").unwrap();
        assert!(matches!(take(root), Err(LockError::Edited(files)) if files == ["stages/dev/a.toml"]));
        assert_eq!(Glance::at(&Folder::open(root).unwrap()).after(), change(&[("shared.toml", Some("2"))]));
        Locked::settle(root, Duration::ZERO, settle).unwrap();
        assert_eq!(read(root, "stages/dev/a.toml").as_deref(), Some("by hand"));
        let shared = if settle == Interrupted::PutBack { "1" } else { "2" };
        assert_eq!(read(root, "shared.toml").as_deref(), Some(shared));
    }
}

#[test]
fn a_change_of_another_version_is_told_and_stays() {
    let kept = tempfile::tempdir().unwrap();
    let plan = kept.path().join(".cledger/change/plan.json");
    fs::create_dir_all(plan.parent().unwrap()).unwrap();
    let text = r#"{"format":2,"files":[{"path":"shared.toml","before":null,"after":"00"}]}"#;
    fs::write(&plan, text).unwrap();
    let Err(LockError::NoPlan(told)) = take(kept.path()) else { panic!("it is not ours") };
    assert!(told.to_string().contains("of version 2, where this cledger knows 3"), "{told}");
    assert!(told.help().contains("the cledger that began it"), "{}", told.help());
    assert_eq!(fs::read_to_string(plan).unwrap(), text);
}

/// What somebody who can commit, or unpack an archive, might put there.
#[test]
fn a_plan_that_is_not_ours_is_never_carried_out() {
    let outside = tempfile::tempdir().unwrap();
    let target = outside.path().join("start");
    fs::write(&target, "theirs").unwrap();
    let absolute = target.to_str().unwrap();
    let hash = |text: &str| blake3::hash(text.as_bytes()).to_hex().to_string();
    let plan = |path: &str, hash: &str| {
        let after = format!(r#"{{"hash":"{hash}","bytes":4}}"#);
        format!(r#"{{"format":3,"files":[{{"path":"{path}","before":null,"after":{after}}}]}}"#)
    };
    let good = hash("evil");
    for (what, text) in [
        ("an absolute path", plan(absolute, &good)),
        ("a path upwards", plan("../start", &good)),
        ("a path upwards below", plan("stages/../../start", &good)),
        ("a hidden file", plan(".bashrc", &good)),
        ("version control", plan(".git/hooks/pre-commit", &good)),
        ("no file of a ledger", plan("README.md", &good)),
        ("a text of another hash", plan("shared.toml", &hash("other"))),
        ("a text of another length", plan("shared.toml", &good).replace(":4", ":5")),
        ("a text of no length", plan("shared.toml", &good).replace(":4", ":18446744073709551615")),
        ("no JSON", "{".to_owned()),
        ("an unknown key", r#"{"format":3,"files":[],"run":"x"}"#.to_owned()),
    ] {
        let kept = tempfile::tempdir().unwrap();
        let folder = kept.path().join(".cledger/change");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("texts"), "evil").unwrap();
        fs::write(folder.join("plan.json"), text).unwrap();
        assert!(matches!(take(kept.path()), Err(LockError::NoPlan(_))), "{what}");
        let glance = Glance::at(&Folder::open(kept.path()).unwrap());
        assert!(matches!(glance.open, Some(Err(_))) && glance.after().is_empty(), "{what}");
        assert_eq!(fs::read_dir(kept.path()).unwrap().count(), 1, "{what}");
    }
    // A target that is a link, a source that is one, and a state folder that is one.
    let kept = interrupted();
    fs::remove_file(kept.path().join("stages/dev/a.toml")).unwrap();
    symlink(&target, kept.path().join("stages/dev/a.toml")).unwrap();
    assert!(matches!(take(kept.path()), Err(LockError::Edited(_))));
    let kept = interrupted();
    let source = kept.path().join(".cledger/change/texts");
    fs::remove_file(&source).unwrap();
    symlink(&target, &source).unwrap();
    assert!(matches!(take(kept.path()), Err(LockError::NoPlan(_))));
    let kept = tempfile::tempdir().unwrap();
    symlink(interrupted().path().join(".cledger"), kept.path().join(".cledger")).unwrap();
    assert!(matches!(take(kept.path()), Err(LockError::Foreign(Foreign::Link))));
    assert_eq!(fs::read_to_string(&target).unwrap(), "theirs");
}

#[test]
fn whoever_reads_meanwhile_can_tell() {
    let kept = tempfile::tempdir().unwrap();
    let root = Folder::open(kept.path()).unwrap();
    let locked = take(kept.path()).unwrap();
    let before = Glance::at(&root);
    assert!(before.is_same(&Glance::at(&root)));
    locked.write(&change(&[("shared.toml", Some("1")), ("units/a.toml", Some("1"))])).unwrap();
    assert!(!before.is_same(&Glance::at(&root)));
}
