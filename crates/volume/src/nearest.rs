//! Suggestions for unknown names.

/// The candidate most similar to `name`, if any is similar at all.
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
