//! Suggestions for names that are not known.

/// The candidate most like `name`, if any is like it at all.
pub fn nearest<'c>(name: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<&'c str> {
    let lower = name.to_lowercase();
    candidates
        .into_iter()
        .map(|candidate| {
            let score = strsim::jaro_winkler(&lower, &candidate.to_lowercase());
            (score, candidate)
        })
        .filter(|(score, _)| *score > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, candidate)| candidate)
}
