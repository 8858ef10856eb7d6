//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

/// From a folder of documents to answers that cite their pages, on your own machine.
#[derive(Parser)]
#[command(name = "logothete", version, max_term_width = 100, arg_required_else_help = true)]
pub struct Arguments {
    #[command(subcommand)]
    pub verb: Verb,

    #[command(flatten)]
    pub place: Place,

    /// Write one JSON document to stdout instead of text
    #[arg(long, global = true)]
    pub json: bool,
}

/// Where the configuration and the corpus are.
#[derive(Args)]
pub struct Place {
    /// The configuration file [default: the nearest logothete.toml, upwards from here]
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,

    /// The corpus's folder [default: logothete.corpus, beside the configuration file or here]
    #[arg(long, global = true, value_name = "FOLDER")]
    pub corpus: Option<PathBuf>,
}

#[derive(Subcommand)]
pub enum Verb {
    /// Build a corpus of an invented harbour's documents, and ask it three questions
    Demo,
    /// Show what the parser sees: blocks, pages, tables, warnings
    Parse {
        /// Files or folders
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// Show where chunks begin and end, and how long they are
    Chunk {
        /// Files or folders
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// The most words in a chunk
        #[arg(long, value_name = "WORDS")]
        limit: Option<usize>,
        /// How many words of the chunk before are repeated when a section is cut
        #[arg(long, value_name = "WORDS")]
        overlap: Option<usize>,
    },
    /// Bring the corpus up to date with files and folders
    Build {
        /// Files or folders [default: those of the configuration, or all that were built before]
        #[arg(value_name = "PATH")]
        paths: Vec<PathBuf>,
        /// Forget documents that are gone even when they are more than half of a folder
        #[arg(long)]
        prune: bool,
    },
    /// Show what is in the corpus
    Show {
        /// Read every byte of the indexes and compare checksums
        #[arg(long)]
        verify: bool,
    },
    /// Find the passages that fit a query best
    Search {
        /// The query
        #[arg(required = true, value_name = "QUERY")]
        query: Vec<String>,
        /// How many passages to show
        #[arg(long, value_name = "NUMBER")]
        count: Option<usize>,
    },
    /// Answer a question, with the place that each sentence comes from
    Ask {
        /// The question
        #[arg(required = true, value_name = "QUESTION")]
        question: Vec<String>,
        /// Show what every stage did
        #[arg(long)]
        trace: bool,
    },
    /// Score search and answers on a set of questions
    Evaluate {
        /// The question set, in JSON Lines
        #[arg(value_name = "SET")]
        set: PathBuf,
        /// Only the questions of this split, such as dev or test
        #[arg(long)]
        split: Option<String>,
    },
}
