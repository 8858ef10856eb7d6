//! Sentences that stand for the whole: central ones, without repetition, over all sections.

use super::candidates::Candidates;

/// Two sentences that are less alike than this do not speak for each other.
const MIN_ALIKE: f32 = 0.25;
/// The probability of going on to a sentence that is alike, and not to any.
const DAMPING: f32 = 0.85;
const ROUNDS: usize = 30;
/// How much more the first sentence of a section counts.
const FIRST: f32 = 1.3;
/// How much more a sentence of the first section counts.
const LEAD: f32 = 1.15;
/// How much less a sentence counts that begins with a word for something said before.
const LEANING: f32 = 0.4;
/// How much less a long sentence counts.
const LONG: f32 = 0.75;
/// How much less a sentence of few words counts, which is often a caption or a fragment.
const SHORT: f32 = 0.6;
/// Up to so many words, a sentence is short.
const SHORT_WORDS: usize = 8;
/// From so many words on, a sentence is long.
const LONG_WORDS: usize = 40;
/// A sentence that is less good than this share of the best one stays out.
const MIN_SHARE: f32 = 0.2;
/// From this likeness on, a sentence only repeats another.
const MAX_ALIKE: f32 = 0.75;

/// Returns how much each of `count` sentences stands for all, the best with 1: the share of time that a walk along likenesses spends there (Erkan and
/// Radev, 2004, “LexRank: graph-based lexical centrality as salience in text summarization”).
pub(super) fn centrality(count: usize, alike: impl Fn(usize, usize) -> f32) -> Vec<f32> {
    let mut links: Vec<Vec<(usize, f32)>> = vec![Vec::new(); count];
    for a in 0..count {
        for b in a + 1..count {
            let likeness = alike(a, b);
            if likeness >= MIN_ALIKE {
                links[a].push((b, likeness));
                links[b].push((a, likeness));
            }
        }
    }
    let sums: Vec<f32> = links.iter().map(|own| own.iter().map(|(_, likeness)| likeness).sum()).collect();
    let mut ranks = vec![1.0 / count.max(1) as f32; count];
    for _ in 0..ROUNDS {
        let mut next = vec![(1.0 - DAMPING) / count.max(1) as f32; count];
        for (from, own) in links.iter().enumerate() {
            for (to, likeness) in own {
                next[*to] += DAMPING * ranks[from] * likeness / sums[from];
            }
        }
        ranks = next;
    }
    let best = ranks.iter().copied().fold(f32::MIN_POSITIVE, f32::max);
    ranks.into_iter().map(|rank| rank / best).collect()
}

/// Returns central sentences of up to `max_words` words together, in the order of the document, by their places among all candidates. Each one that is
/// chosen makes those like it count less (Carbonell and Goldstein, 1998, “The use of MMR, diversity-based reranking”), and those of its section by
/// `again`. Those of `taken` are not chosen again.
pub(super) fn chosen(candidates: &Candidates<'_>, max_words: usize, again: f32, taken: &[usize]) -> Vec<usize> {
    let compared = &candidates.compared;
    let mut score: Vec<f32> = compared.iter().map(|at| prior(candidates, *at)).collect();
    let mut left = max_words;
    let mut picked: Vec<usize> = Vec::new();
    let mut best_of_all = 0.0_f32;
    for at in taken {
        if let Some(place) = compared.iter().position(|own| own == at) {
            discount(candidates, &mut score, place, 1.0);
        }
    }
    while let Some(best) = best(candidates, &score, left) {
        best_of_all = best_of_all.max(score[best]);
        if score[best] < MIN_SHARE * best_of_all {
            break;
        }
        left -= candidates.all[compared[best]].words;
        picked.push(compared[best]);
        discount(candidates, &mut score, best, again);
    }
    picked.sort_unstable();
    picked
}

/// Returns the best one that still has room.
fn best(candidates: &Candidates<'_>, score: &[f32], left: usize) -> Option<usize> {
    let fits = |at: &usize| score[*at] > 0.0 && candidates.all[candidates.compared[*at]].words <= left;
    (0..score.len()).filter(fits).max_by(|a, b| score[*a].total_cmp(&score[*b]).then(b.cmp(a)))
}

/// Makes count less what is like a sentence that was chosen, and what stands in its section.
fn discount(candidates: &Candidates<'_>, score: &mut [f32], chosen: usize, again: f32) {
    let section = candidates.all[candidates.compared[chosen]].section;
    for (other, score) in score.iter_mut().enumerate() {
        let likeness = if other == chosen { 1.0 } else { candidates.alike(chosen, other) };
        *score *= if likeness >= MAX_ALIKE { 0.0 } else { 1.0 - likeness };
        if candidates.all[candidates.compared[other]].section == section {
            *score *= again;
        }
    }
}

/// Returns how good a sentence is before any other is chosen.
fn prior(candidates: &Candidates<'_>, at: usize) -> f32 {
    let one = &candidates.all[at];
    let mut score = one.centrality;
    let factors = [
        (one.is_first, FIRST),
        (one.section == 0, LEAD),
        (leans_back(&one.text), LEANING),
        (one.words > LONG_WORDS, LONG),
        (one.words <= SHORT_WORDS, SHORT),
    ];
    factors.iter().filter(|(holds, _)| *holds).for_each(|(_, factor)| score *= factor);
    score
}

/// Returns `true` if a sentence begins with a word for something that was said before it.
pub(crate) fn leans_back(text: &str) -> bool {
    const WORDS: &str = "it its this that these those they them their he she his her such so then also however but and or otherwise therefore thus both \
    either instead er sie es dies diese dieser dieses il elle ils elles ce cette ces";
    let first = text.split_whitespace().next().unwrap_or_default();
    let first = crate::text::fold(first.trim_matches(|c: char| !c.is_alphanumeric()));
    crate::text::is_listed(WORDS, &first)
}
