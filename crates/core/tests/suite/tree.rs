//! Trees of summaries: grown, followed, written and read.

use logothete_core::chunk::ChunkId;
use logothete_core::document::Span;
use logothete_core::tree::{
    StoredTree, SummaryPart, Told, Tree, TreeEnd, TreeNode, TreeSentence, TreeSettings, WordCounts, central_sentences,
    grow, mean_of_parts, node_words, told_by_parts,
};
use logothete_core::vector::Vectors;
use logothete_core::{Error, ErrorKind};
use proptest::prelude::*;
use rstest::rstest;

/// Subjects, with what chunks about each say.
const SUBJECTS: [&str; 6] = ["pilot", "crane", "lock", "bell", "rope", "chart"];

/// A number that looks random, from -0.5 to 0.5.
fn noise(at: u64) -> f32 {
    let mixed = (at + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    let mixed = (mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (mixed >> 40) as f32 / (1_u64 << 24) as f32 - 0.5
}

/// The vector of a chunk about a subject: near that of the subject, and the subjects come in two families.
fn vector(subject: usize, chunk: usize) -> Vec<f32> {
    let part = |seed: usize, by: f32| (0..24).map(move |at| by * noise((seed * 31 + at) as u64));
    let own = part(1_000 + subject, 1.5).zip(part(2_000 + subject % 2, 1.0)).zip(part(5_000 + chunk, 0.5));
    let whole: Vec<f32> = own.map(|((a, b), c)| a + b + c).collect();
    let length = whole.iter().map(|number| number * number).sum::<f32>().sqrt();
    whole.into_iter().map(|number| number / length).collect()
}

fn leaves(count: usize) -> Vectors {
    let mut vectors = Vectors::new(24);
    (0..count).for_each(|at| vectors.push(&vector(at % SUBJECTS.len(), at)).expect("a vector"));
    vectors
}

fn said(leaf: u32) -> String {
    let subject = SUBJECTS[leaf as usize % SUBJECTS.len()];
    format!("The {subject} of the harbour is looked at by the watch in week {leaf}.")
}

fn sentence(leaf: u32) -> TreeSentence {
    let text = said(leaf);
    TreeSentence { span: Span::new(0, text.len()), text, leaf }
}

/// Tells nodes without a model.
fn tell(counts: &WordCounts) -> impl FnMut(&Tree, &[TreeNode]) -> Result<Vec<Told>, Error> + '_ {
    move |tree, nodes| Ok(nodes.iter().map(|node| told(tree, node, counts)).collect())
}

fn told(tree: &Tree, node: &TreeNode, counts: &WordCounts) -> Told {
    if node.level > 1 {
        return told_by_parts(tree, node, &mean_of_parts(tree, node), counts, 30);
    }
    let parts: Vec<SummaryPart> =
        node.parts.iter().map(|leaf| SummaryPart { weight: 1.0, sentences: vec![sentence(*leaf)] }).collect();
    let texts: Vec<String> = node.parts.iter().map(|leaf| said(*leaf)).collect();
    Told::new(node_words(texts.iter().map(String::as_str), counts), central_sentences(&parts, counts, 30))
}

fn counts(leaves: u32) -> WordCounts {
    let mut counts = WordCounts::default();
    (0..leaves).for_each(|leaf| counts.add(&said(leaf)));
    counts
}

fn settings() -> TreeSettings {
    let mut settings = TreeSettings::default();
    settings.groups.max_parts = 12;
    settings
}

fn grown(count: usize) -> Tree {
    let counts = counts(count as u32);
    let (tree, error) = grow(&leaves(count), &settings(), &mut tell(&counts));
    assert!(error.is_none(), "{error:?}");
    tree
}

/// Checks what holds of every tree.
fn check(tree: &Tree) {
    for (at, node) in (0_u32..).zip(&tree.nodes) {
        let below = tree.leaves_of(at);
        assert_eq!(node.size as usize, below.len());
        assert!(!node.parts.is_empty() && node.parts.is_sorted_by(|a, b| a < b));
        for sentence in &node.sentences {
            assert!(below.contains(&sentence.leaf), "a summary stands on the chunks below it");
        }
        let length: f32 = tree.mean(at).expect("a mean").iter().map(|number| number * number).sum();
        assert!((length - 1.0).abs() < 1e-3);
    }
    let all: Vec<u32> = tree.level(1).flat_map(|(_, node)| node.parts.clone()).collect();
    assert!((0..tree.leaves).all(|leaf| all.contains(&leaf)), "every chunk is in a group");
}

#[test]
fn chunks_are_grouped_by_subject_and_one_node_stands_for_all() {
    let tree = grown(120);
    check(&tree);
    assert_eq!((tree.end, tree.tops().len()), (TreeEnd::Whole, 1));
    assert!((2..=5).contains(&tree.levels()), "{}", tree.levels());
    for (_, node) in tree.level(1) {
        assert!(node.parts.iter().all(|leaf| leaf % 6 == node.parts[0] % 6), "{:?}", node.parts);
        assert_eq!(node.label[0], SUBJECTS[node.parts[0] as usize % 6], "{:?}", node.label);
        assert!(node.summary().contains(&node.label[0]));
    }
    let top = &tree.nodes[tree.tops()[0] as usize];
    assert_eq!(top.size, 120);
    assert!(top.sentences.len() > 1, "{}", top.summary());
    // Both ways of searching reach the subject.
    for subject in 0..6 {
        let question = vector(subject, 999);
        let is_of = |at: u32| tree.leaves_of(at).iter().all(|leaf| *leaf as usize % 6 == subject);
        let nearest = tree.nearest(&question, 3);
        assert!(is_of(nearest[0].0) && nearest.is_sorted_by(|a, b| a.1 >= b.1));
        let reached = tree.descend(&question, 3);
        assert!(is_of(reached[0].0) && tree.nodes[reached[0].0 as usize].level == 1);
    }
    assert!(tree.nearest(&[1.0; 3], 5).is_empty(), "of other dimensions");
}

#[rstest]
#[case::none(0, TreeEnd::TooFew)]
#[case::one(1, TreeEnd::TooFew)]
#[case::two(2, TreeEnd::Whole)]
fn few_chunks_are_a_small_tree(#[case] count: usize, #[case] end: TreeEnd) {
    let tree = grown(count);
    check_small(&tree, count);
    assert_eq!(tree.end, end);
}

fn check_small(tree: &Tree, count: usize) {
    assert_eq!(tree.nodes.len(), usize::from(count > 1));
    assert_eq!(tree.leaves as usize, count);
}

#[test]
fn chunks_that_are_all_alike_are_not_grouped_beyond_what_fits() {
    let mut alike = Vectors::new(4);
    (0..40).for_each(|_| alike.push(&[0.5; 4]).expect("a vector"));
    let counts = counts(40);
    let (tree, _) = grow(&alike, &settings(), &mut tell(&counts));
    assert_eq!((tree.nodes.len(), tree.end), (0, TreeEnd::Inseparable));
    let mut zero = Vectors::new(4);
    (0..10).for_each(|_| zero.push(&[0.0; 4]).expect("a vector"));
    let (tree, _) = grow(&zero, &settings(), &mut tell(&counts));
    assert_eq!((tree.nodes.len(), tree.end), (1, TreeEnd::Whole));
}

#[test]
fn the_levels_before_a_failure_stay() {
    let counts = counts(120);
    let mut telling = tell(&counts);
    let mut failing = |tree: &Tree, nodes: &[TreeNode]| match nodes[0].level {
        1 => telling(tree, nodes),
        _ => Err(Error::new(ErrorKind::Unavailable, "the model is gone")),
    };
    let (tree, error) = grow(&leaves(120), &settings(), &mut failing);
    assert_eq!(error.map(|error| error.kind()), Some(ErrorKind::Unavailable));
    check(&tree);
    assert_eq!(tree.levels(), 1);
}

#[test]
fn a_tree_has_as_many_levels_as_it_may() {
    let counts = counts(120);
    let mut one = settings();
    one.max_levels = 1;
    let (tree, _) = grow(&leaves(120), &one, &mut tell(&counts));
    assert_eq!((tree.levels(), tree.end), (1, TreeEnd::Levels));
}

#[test]
fn the_same_chunks_grow_the_same_tree() {
    let on = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        pool.install(|| grown(700))
    };
    assert!(on(1) == on(3), "the trees differ");
    let mut other = settings();
    other.groups.seed = 2;
    let counts = counts(700);
    check(&grow(&leaves(700), &other, &mut tell(&counts)).0);
}

/// Follows a change, tells anew what it must, and returns how many nodes that were.
fn follow(tree: &mut Tree, kept: &[Option<u32>], new: &[(u32, Vec<f32>)], count: u32) -> usize {
    let new: Vec<(u32, &[f32])> = new.iter().map(|(at, vector)| (*at, vector.as_slice())).collect();
    let changed = tree.follow(kept, &new, count);
    let counts = counts(count.max(1));
    for at in &changed {
        let node = tree.nodes[*at as usize].clone();
        let told = told(tree, &node, &counts);
        tree.retell(*at, told);
    }
    tree.rename();
    changed.len()
}

#[test]
fn new_chunks_join_the_nearest_nodes_and_only_these_are_told_anew() {
    let mut tree = grown(120);
    let before = tree.nodes.len();
    let kept: Vec<Option<u32>> = (0..120).map(Some).collect();
    let told = follow(&mut tree, &kept, &[(120, vector(0, 120)), (121, vector(1, 121))], 122);
    check(&tree);
    assert!(told < before / 2, "{told} of {before}");
    let of_subject = |subject: u32, leaf: u32| {
        tree.level(1).any(|(_, node)| node.parts.contains(&leaf) && node.parts.iter().all(|own| own % 6 == subject))
    };
    assert!(of_subject(0, 120) && of_subject(1, 121));
    assert!(!tree.history.is_worn() && tree.history.joined == 2);
    assert_eq!(follow(&mut tree, &(0..122).map(Some).collect::<Vec<_>>(), &[], 122), 0, "nothing has changed");
}

#[test]
fn a_tree_whose_chunks_changed_much_is_worn() {
    let mut tree = grown(120);
    // The chunks of three subjects go.
    let mut next = 0;
    let kept: Vec<Option<u32>> = (0..120_u32)
        .map(|leaf| {
            let stays = leaf % 6 > 2;
            next += u32::from(stays);
            stays.then(|| next - 1)
        })
        .collect();
    tree.follow(&kept, &[], 60);
    assert!(tree.history.is_worn());
    assert!(tree.level(1).all(|(_, node)| !node.parts.is_empty()));
    let all: Vec<u32> = tree.level(1).flat_map(|(_, node)| node.parts.clone()).collect();
    assert!(all.iter().all(|leaf| *leaf < 60) && (0..60).all(|leaf| all.contains(&leaf)));
    // Chunks of another kind come.
    let mut tree = grown(120);
    let kept: Vec<Option<u32>> = (0..120).map(Some).collect();
    let strangers: Vec<(u32, Vec<f32>)> = (0..25).map(|at| (120 + at, vector(70 + at as usize, 9))).collect();
    let strangers: Vec<(u32, &[f32])> = strangers.iter().map(|(at, vector)| (*at, vector.as_slice())).collect();
    tree.follow(&kept, &strangers, 145);
    assert!(tree.history.drift() < 0.3 && tree.history.is_worn(), "{:?}", tree.history);
}

fn stored(tree: Tree) -> StoredTree {
    let chunks = (0..tree.leaves).map(|at| ChunkId::from_stored(format!("{at:016x}"))).collect();
    StoredTree::new(tree, chunks, "an encoder")
}

#[test]
fn what_is_written_is_read() {
    let whole = stored(grown(60));
    let bytes = logothete_core::segment::whole_segment(|to| whole.write(to)).expect("written");
    assert_eq!(StoredTree::read(&bytes).expect("a tree"), whole);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn damage_is_an_error(place in 0_usize..4_000, bit in 0_u8..8, cut in 0_usize..4_000) {
        let whole = stored(grown(24));
        let mut bytes = logothete_core::segment::whole_segment(|to| whole.write(to)).expect("written");
        let place = place % bytes.len();
        bytes[place] ^= 1 << bit;
        prop_assert!(StoredTree::read(&bytes).is_err(), "byte {place}");
        bytes.truncate(cut % bytes.len());
        prop_assert!(StoredTree::read(&bytes).is_err());
    }

    #[test]
    fn whatever_comes_and_goes_the_tree_is_whole(gone in prop::collection::vec(any::<bool>(), 40), new in 0_u32..20) {
        let mut tree = grown(40);
        let mut next = 0;
        let kept: Vec<Option<u32>> = gone
            .iter()
            .map(|gone| {
                next += u32::from(!gone);
                (!gone).then(|| next - 1)
            })
            .collect();
        let new: Vec<(u32, Vec<f32>)> = (0..new).map(|at| (next + at, vector(at as usize % 6, 500 + at as usize))).collect();
        let left = next + new.len() as u32;
        let new: Vec<(u32, &[f32])> = new.iter().map(|(at, vector)| (*at, vector.as_slice())).collect();
        tree.follow(&kept, &new, left);
        for (at, node) in (0_u32..).zip(&tree.nodes) {
            prop_assert!(!node.parts.is_empty());
            prop_assert_eq!(node.size as usize, tree.leaves_of(at).len());
            prop_assert!(node.sentences.iter().all(|sentence| sentence.leaf < left));
        }
        if !tree.nodes.is_empty() {
            let all: Vec<u32> = tree.level(1).flat_map(|(_, node)| node.parts.clone()).collect();
            prop_assert!((0..left).all(|leaf| all.contains(&leaf)));
            let bytes = logothete_core::segment::whole_segment(|to| stored(tree.clone()).write(to)).expect("written");
            prop_assert!(StoredTree::read(&bytes).is_ok());
        }
    }
}
