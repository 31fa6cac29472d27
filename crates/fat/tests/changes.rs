//! Random changes to file systems of many kinds, judged after every step.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::path::Path;

use common::model::{Model, changes};
use common::{complaint, copy_out, device, sparse};
use jiff::tz::TimeZone;
use pinewrit_fat::{Editor, MakeKind, MakeOptions, MakePlan, Stamp, Volume, check};
use pinewrit_judges::{judge, needs};
use proptest::prelude::*;
use proptest::sample::select;

/// A file system by a stranger: its size in bytes, the program and its options.
#[derive(Clone, Debug)]
struct Made {
    size: u64,
    program: &'static str,
    options: Vec<String>,
}

impl Made {
    /// Makes it; `false` where options do not go together.
    fn make(&self, image: &Path) -> bool {
        sparse(image, self.size);
        let mut args: Vec<&str> = self.options.iter().map(String::as_str).collect();
        args.push(match self.program {
            "mformat" => "::",
            _ => image.to_str().unwrap(),
        });
        let at = ["-i", image.to_str().unwrap()];
        if self.program == "mformat" {
            args.splice(0..0, at);
        }
        judge(self.program, &args).is_some_and(|(is_good, _)| is_good)
    }
}

fn sizes() -> impl Strategy<Value = u64> {
    prop_oneof![
        6 => (64u64..2048).prop_map(|kib| kib << 10),
        9 => (2u64..64).prop_map(|mib| mib << 20),
        2 => (64u64..1024).prop_map(|mib| mib << 20),
        1 => (1u64..65).prop_map(|gib| gib << 30),
    ]
}

fn by_mkfs() -> impl Strategy<Value = Made> {
    let option = |name: &'static str, values: Vec<&'static str>| {
        let values = [vec![""; 2], values].concat();
        select(values).prop_map(move |value| match value {
            "" => Vec::new(),
            value => vec![name.to_owned(), value.to_owned()],
        })
    };
    let options = (
        option("-F", vec!["12", "16", "32"]),
        option("-s", vec!["1", "2", "4", "8", "16", "32", "64", "128"]),
        option("-f", vec!["1", "2"]),
        option("-R", vec!["1", "7", "33", "100", "5000"]),
        option("-r", vec!["112", "128", "256", "4096"]),
        option("-S", vec!["512", "1024", "2048", "4096"]),
        option("-n", vec!["HUT", "larkfell 01"]),
        option("-g", vec!["1/1", "2/18", "16/63"]),
        (option("-M", vec!["0xf0", "0xf9"]), any::<bool>()),
    );
    (sizes(), options).prop_map(|(size, (a, b, c, d, e, f, g, h, (i, is_unaligned)))| {
        let mut options = [a, b, c, d, e, f, g, h, i].concat();
        if is_unaligned {
            options.push("-a".to_owned());
        }
        let has = |text: &str| options.iter().any(|option| option == text);
        // Tables of a gigabyte take minutes to judge.
        let size = match has("-s") && size > 8 << 30 {
            true => size / 16,
            false => size,
        };
        // A root directory that does not fill its sectors is read in two ways.
        if has("112") && has("-S") {
            options.extend(["-r".to_owned(), "128".to_owned()]);
        }
        Made {
            size,
            program: "mkfs.fat",
            options,
        }
    })
}

fn by_mformat() -> impl Strategy<Value = Made> {
    let geometry = (1u64..80, 1u64..17, 1u64..64, 0u32..6, any::<bool>());
    geometry.prop_map(|(tracks, heads, sectors, cluster, is_wide)| {
        let mut options = vec![
            format!("-t{tracks}"),
            format!("-h{heads}"),
            format!("-s{sectors}"),
            format!("-c{}", 1 << cluster),
            "-vHUT".to_owned(),
        ];
        if is_wide {
            options.push("-F".to_owned());
        }
        Made {
            size: tracks * heads * sectors * 512,
            program: "mformat",
            options,
        }
    })
}

/// Makes all changes, with a check after each commit, and compares the whole at the end.
fn run(image: &Path, plan: &[(common::model::Change, bool)]) {
    // Some options make what its own check finds fault with.
    if complaint(image).is_none_or(|said| !said.is_empty()) {
        return;
    }
    let open = || Editor::open(device(image)).unwrap();
    let judged = |what: &dyn std::fmt::Debug| {
        let own = check(&device(image));
        assert!(own.is_ok(), "{own:?} after {what:?}");
        assert_eq!(complaint(image).unwrap(), "", "after {what:?}");
    };
    judged(&"nothing");
    let mut editor = open();
    let mut model = Model::default();
    for (change, commits) in plan {
        model.make(&mut editor, change);
        if *commits {
            editor.commit().unwrap();
            judged(change);
            model.compare(editor.tree());
            editor = open();
        }
    }
    model.compare(editor.tree());
    editor.commit().unwrap();
    judged(&"the last");
    let volume = Volume::open(device(image)).unwrap();
    assert_eq!(volume.count_free().unwrap(), editor.free());
    model.compare(volume.tree());
    // `mtools` do not read FAT32 with few clusters.
    if !volume.geometry().is_regular() {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let (ours, theirs) = (dir.path().join("ours"), dir.path().join("theirs"));
    model.write_to(&ours);
    copy_out(image, &theirs);
    let args = ["-r", ours.to_str().unwrap(), theirs.to_str().unwrap()];
    let (is_same, said) = judge("diff", &args).unwrap();
    assert!(is_same, "{said}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, max_shrink_iters: 60, ..ProptestConfig::default() })]
    #[test]
    fn any_changes_leave_it_whole(made in by_mkfs(), plan in changes(1..40)) {
        needs!("mkfs.fat", "fsck.fat", "mcopy", "diff"; else Ok(()));
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("fs.img");
        if made.make(&image) {
            run(&image, &plan);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 30, max_shrink_iters: 60, ..ProptestConfig::default() })]
    #[test]
    fn odd_geometries_are_changed_as_well(made in by_mformat(), plan in changes(1..30)) {
        needs!("mformat", "fsck.fat", "mcopy", "diff"; else Ok(()));
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("fs.img");
        if made.make(&image) {
            run(&image, &plan);
        }
    }

    #[test]
    fn those_of_our_own_too(
        kind in select(vec![MakeKind::Fat12, MakeKind::Fat16, MakeKind::Fat32, MakeKind::BySize]),
        size in sizes(), sector in select(vec![512, 4096]), unit in select(vec![None, Some(4096), Some(32768)]),
        plan in changes(1..30),
    ) {
        needs!("fsck.fat", "mcopy", "diff"; else Ok(()));
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("fs.img");
        if let Ok(planned) = MakePlan::of(kind, size, sector, unit) {
            sparse(&image, size);
            let options = MakeOptions {
                label: "HUT".to_owned(),
                id: [1, 2, 3, 4],
                start: 0,
                made: Stamp::at(1_790_000_000, &TimeZone::UTC),
            };
            planned.make(&device(&image), &options).unwrap();
            assert_eq!(complaint(&image).unwrap(), "");
            run(&image, &plan);
        }
    }
}
