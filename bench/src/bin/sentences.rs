//! How many sentence boundaries are found that were marked by hand. `sentences` looks at the part to tune on and shows the
//! mistakes, `sentences --final` at the part that is kept for the report and shows none.

use logothete_bench::boundaries::compare;

fn main() {
    let last = std::env::args().any(|argument| argument == "--final");
    let file = if last { include_str!("../../sentences/final.txt") } else { include_str!("../../sentences/dev.txt") };
    let found = compare(file);
    let of = |whole: usize| found.right as f64 / whole.max(1) as f64;
    println!(
        "{} sentences, {} boundaries inside paragraphs: precision {:.4}, recall {:.4}, F1 {:.4}",
        found.sentences,
        found.marked,
        of(found.found),
        of(found.marked),
        found.f1()
    );
    for mistake in found.mistakes.iter().filter(|_| !last) {
        println!("  {mistake}");
    }
}
