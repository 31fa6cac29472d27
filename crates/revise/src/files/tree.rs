//! `pinewrit files tree`

use pinewrit_args::ReadArgs;
use pinewrit_ui::{style, units, words};
use pinewrit_volume::files::{Kind, Node, walk};

use super::look::{MAX_LINES, look, not_there, shown_name, tell_list};
use crate::events::FileEvent;
use pinewrit_session::Context;
use pinewrit_session::Outcome;

pub(super) fn tree(cx: &Context, at: &ReadArgs, depth: Option<usize>) -> Outcome {
    let text = look(cx, at, |files, name| {
        let mut nodes = Vec::new();
        let mut is_cut = false;
        let walked = walk(
            files,
            &at.place.path,
            depth.unwrap_or(usize::MAX),
            &mut |node| {
                is_cut = nodes.len() == MAX_LINES;
                if !is_cut {
                    nodes.push(node);
                }
                !is_cut
            },
        );
        match walked {
            Err(pinewrit_volume::files::FilesError::NotFound(_)) => {
                return Err(not_there(at, files));
            }
            walked => walked.map_err(|e| words::files_error(name, &e))?,
        }
        for node in &nodes {
            cx.ui.event(&FileEvent {
                path: &node.path,
                facts: &node.facts,
            });
        }
        tell_list(&cx.ui, "files tree", name, at, nodes.len());
        let mut text = drawn(&at.place.to_string(), &nodes);
        if is_cut {
            let most = units::grouped(MAX_LINES as u64);
            text += &format!(
                "  only the first {most} are shown: name a directory below, or --depth 1\n"
            );
        }
        Ok(text)
    })?;
    cx.ui.result(text);
    Ok(())
}

fn drawn(head: &str, nodes: &[Node]) -> String {
    let (strong, dim) = (style::STRONG, style::DIM);
    let mut text = format!("{strong}{head}{strong:#}\n");
    // Which levels continue below the current line.
    let mut open = Vec::new();
    let (mut files, mut folders, mut bytes) = (0, 0, 0);
    for (index, node) in nodes.iter().enumerate() {
        let later = nodes[index + 1..]
            .iter()
            .find(|next| next.depth <= node.depth);
        let goes_on = later.is_some_and(|next| next.depth == node.depth);
        open.truncate(node.depth - 1);
        let mut lead: String = open
            .iter()
            .map(|is_open| if *is_open { "│  " } else { "   " })
            .collect();
        lead += if goes_on { "├─ " } else { "└─ " };
        open.push(goes_on);
        let name = shown_name(&node.path, &node.facts);
        let size = match node.facts.kind {
            Kind::File => format!("  {dim}{}{dim:#}", units::size(node.facts.size)),
            _ => String::new(),
        };
        text += &format!("  {dim}{lead}{dim:#}{name}{size}\n");
        match node.facts.kind {
            Kind::Folder => folders += 1,
            _ => files += 1,
        }
        bytes += node.facts.size * u64::from(node.facts.kind == Kind::File);
    }
    let (files, folders) = (
        units::counted(files, "file"),
        match folders {
            1 => "1 directory".to_owned(),
            many => format!("{} directories", units::grouped(many)),
        },
    );
    format!("{text}  {files} in {folders}, {}\n", units::size(bytes))
}
