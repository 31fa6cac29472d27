//! `pinewrit files list`

use pinewrit_args::ReadArgs;
use pinewrit_ui::{units, words};
use pinewrit_volume::files::{FileFacts, Kind, Node, expected_of, read_expected, walk};

use super::look::{look, not_there, rights, shown_name, tell_list, time};
use crate::events::{ExpectedEvent, FileEvent};
use pinewrit_session::Context;
use pinewrit_session::Outcome;

pub(super) fn list(cx: &Context, at: &ReadArgs) -> Outcome {
    let text = look(cx, at, |files, name| {
        let failed = |e| words::files_error(name, &e);
        let path = &at.place.path;
        let facts = files.facts(path).map_err(failed)?;
        let nodes = match facts {
            Some(facts)
                if facts.kind != Kind::Folder && files.names(path).map_err(failed)?.is_none() =>
            {
                vec![Node {
                    path: path.clone(),
                    facts,
                    depth: 1,
                }]
            }
            _ => {
                let mut nodes = Vec::new();
                let walked = walk(files, path, 1, &mut |node| {
                    nodes.push(node);
                    true
                });
                match walked {
                    Err(pinewrit_volume::files::FilesError::NotFound(_)) => {
                        return Err(not_there(at, files));
                    }
                    walked => walked.map_err(failed)?,
                }
                nodes
            }
        };
        for node in &nodes {
            cx.ui.event(&FileEvent {
                path: &node.path,
                facts: &node.facts,
            });
        }
        tell_list(&cx.ui, "files list", name, at, nodes.len());
        Ok(rows(&nodes))
    })?;
    cx.ui.result(text);
    Ok(())
}

fn rows(nodes: &[Node]) -> String {
    if nodes.is_empty() {
        return "  empty\n".to_owned();
    }
    let owner = |facts: &FileFacts| {
        let owner = facts.owner;
        owner.map_or(String::new(), |(uid, gid)| format!("{uid}:{gid}"))
    };
    let size = |facts: &FileFacts| match facts.kind {
        Kind::File => units::grouped(facts.size),
        _ => String::new(),
    };
    let widest = |text: &dyn Fn(&FileFacts) -> String| {
        nodes
            .iter()
            .map(|node| text(&node.facts).len())
            .max()
            .unwrap_or(0)
    };
    let (owners, sizes) = (widest(&owner), widest(&size));
    let mut text = String::new();
    for node in nodes {
        let facts = &node.facts;
        let mut line = format!("  {}", rights(facts));
        if owners > 0 {
            line += &format!("  {:>owners$}", owner(facts));
        }
        let name = shown_name(&node.path, facts);
        line += &format!(
            "  {:>sizes$}  {:16}  {name}",
            size(facts),
            time(facts.modified)
        );
        text += &line;
        text.push('\n');
    }
    text
}

pub(super) fn expected(cx: &Context, at: &ReadArgs) -> Outcome {
    let list = look(cx, at, |files, name| {
        let list = expected_of(files, &at.place.path);
        let list = list.map_err(|e| words::files_error(name, &e))?;
        if cx.ui.json {
            let all = read_expected(&list).unwrap_or_default();
            for (path, expected) in &all {
                cx.ui.event(&ExpectedEvent { path, expected });
            }
            tell_list(&cx.ui, "files list", name, at, all.len());
        }
        Ok(list)
    })?;
    cx.ui.result(list);
    Ok(())
}
