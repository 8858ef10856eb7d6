//! The command line.

use clap::{Args, Parser, Subcommand, ValueEnum};
use logothete::document::Date;
use std::path::PathBuf;

/// From a folder of documents to answers that cite their pages, on your own machine.
#[derive(Parser)]
#[command(name = "logothete", version, max_term_width = 100, arg_required_else_help = true)]
pub struct Arguments {
    #[command(subcommand)]
    pub verb: Verb,

    #[command(flatten)]
    pub at: CorpusArguments,

    /// Write one JSON document to stdout instead of text
    #[arg(long, global = true)]
    pub json: bool,
}

/// The configuration and the corpus.
#[derive(Args)]
pub struct CorpusArguments {
    /// The configuration file [default: the nearest logothete.toml, upwards from here]
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,

    /// The corpus's folder [default: logothete.corpus, beside the configuration file or here]
    #[arg(long, global = true, value_name = "FOLDER")]
    pub corpus: Option<PathBuf>,

    /// See only the documents that somebody in these groups may see; needs allow in [search] [default: all documents]
    #[arg(long, global = true, value_name = "NAMES", value_delimiter = ',')]
    pub groups: Option<Vec<String>>,
}

/// Where the corpus is served.
#[cfg(feature = "serve")]
#[derive(Args)]
pub struct ServeArguments {
    /// The port; 0 means any that is free [default: that of the configuration, 8472]
    #[arg(long, value_name = "NUMBER")]
    pub port: Option<u16>,
    /// The address to listen on [default: that of the configuration, 127.0.0.1]
    #[arg(long, value_name = "ADDRESS")]
    pub address: Option<String>,
    /// Serve other machines although there is no token
    #[arg(long)]
    pub open: bool,
}

/// What to parse and what to show of it.
#[derive(Args)]
pub struct ParseArguments {
    /// Files or folders
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Write the documents in this form instead of the view for people
    #[arg(long, value_enum, value_name = "FORM")]
    pub format: Option<Format>,
    /// With --format text: include running headers, footers and page numbers
    #[arg(long)]
    pub furniture: bool,
    /// Read these pages only, such as 3 or 1-10
    #[arg(long, value_name = "PAGES")]
    pub pages: Option<String>,
    /// Draw a page of a PDF as a PNG, its blocks outlined by kind and numbered in reading order
    #[arg(long, value_name = "PAGE", conflicts_with = "format")]
    pub picture: Option<u32>,
    /// Write the figures of PDF files as PNGs into a folder
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["format", "picture"])]
    pub figures: Option<PathBuf>,
    /// Write to this file instead of stdout; with --picture the name of the PNG
    #[arg(long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Overwrite files that exist
    #[arg(long)]
    pub force: bool,
}

/// The documents to cut, and the settings.
#[derive(Args)]
pub struct ChunkArguments {
    /// Files or folders
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// The strategy: structure, sentences, separators, window, pages, marked, rows, whole or topics
    #[arg(long, value_name = "NAME")]
    pub strategy: Option<String>,
    /// The maximum size of a chunk, context included
    #[arg(long, value_name = "NUMBER")]
    pub limit: Option<usize>,
    /// How much of the previous chunk is repeated
    #[arg(long, value_name = "NUMBER")]
    pub overlap: Option<usize>,
    /// The unit of both: words, characters, or tokens of the encoder
    #[arg(long, value_name = "UNIT")]
    pub unit: Option<String>,
    /// For separators: a separator to cut at; repeat the option, the coarsest first
    #[arg(long = "separator", value_name = "TEXT", allow_hyphen_values = true)]
    pub separators: Vec<String>,
    /// For marked: the pattern of a marked line, with * for anything
    #[arg(long, value_name = "PATTERN", allow_hyphen_values = true)]
    pub marker: Option<String>,
    /// For rows: how many rows a chunk has
    #[arg(long, value_name = "NUMBER")]
    pub rows: Option<usize>,
    /// Put two settings side by side, each STRATEGY, STRATEGY:LIMIT or STRATEGY:LIMIT:OVERLAP
    #[arg(long, value_name = "A,B", conflicts_with_all = ["strategy", "limit", "overlap"])]
    pub compare: Option<String>,
}

/// Maintenance of a corpus.
#[derive(Args)]
#[group(multiple = false, conflicts_with_all = ["paths", "prune", "estimate"])]
pub struct Upkeep {
    /// Remove a document and every trace of it from the corpus's files, its vectors, words and cache entries included
    #[arg(long, value_name = "DOCUMENT")]
    pub forget: Option<String>,
    /// Merge all segments into one, and drop deleted rows and free pages
    #[arg(long)]
    pub compact: bool,
    /// Encode all chunks with the configuration's encoder, and use it from then on
    #[arg(long)]
    pub reencode: bool,
    /// Fill an empty corpus from a file that show --export wrote
    #[arg(long, value_name = "FILE")]
    pub import: Option<PathBuf>,
}

/// The query, the filter and the order of a search.
#[derive(Args)]
pub struct SearchArguments {
    /// The query, best in quotes; +word is required, -word is excluded, "some words" is a phrase, begin* a prefix
    #[arg(value_name = "QUERY", required_unless_present_any = ["queries", "plan"])]
    pub query: Vec<String>,
    /// Search for each line of a file instead
    #[arg(long, value_name = "FILE", conflicts_with = "query")]
    pub queries: Option<PathBuf>,
    /// How many passages to show
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
    pub count: Option<u32>,
    /// Search only chunks for which this filter holds, such as 'date >= 2025-03 and page < 9'
    #[arg(long, value_name = "FILTER")]
    pub filter: Option<String>,
    /// Sort the passages by a field; with - before it, in descending order
    #[arg(long, value_name = "FIELD", allow_hyphen_values = true)]
    pub sort: Option<String>,
    /// Show only passages with a score in this range, such as 0.4.. or 0.4..0.8; that of a leg is vector=0.3..
    #[arg(long = "score", value_name = "RANGE")]
    pub scores: Vec<String>,
    #[command(flatten)]
    pub changes: PlanChanges,
    /// Show why each passage stands where it does: each leg's rank, the fused rank, and what moved it
    #[arg(long)]
    pub why: bool,
    /// Say what became of the passages that fit a filter, such as 'document fits "byelaws*" and page = 2': their rank at each step, and where they
    /// were lost
    #[arg(long, value_name = "FILTER")]
    pub expect: Option<String>,
    /// Search by the [search] of another configuration file too, and show both orders side by side
    #[arg(long, value_name = "FILE", conflicts_with_all = ["queries", "why", "expect"])]
    pub against: Option<PathBuf>,
    /// Print how passages are searched for, and search for nothing
    #[arg(long, conflicts_with_all = ["query", "queries", "why", "expect", "against"])]
    pub plan: bool,
}

/// Changes to how passages are searched for, in one call.
#[derive(Args)]
pub struct PlanChanges {
    /// Change a setting of [search] for this call, such as rerank.kind=none; repeat it for several
    #[arg(long = "set", value_name = "KEY=VALUE")]
    pub set: Vec<String>,
}

/// The question and the filter of an answer.
#[derive(Args)]
pub struct AskArguments {
    /// The question
    #[arg(value_name = "QUESTION", required_unless_present = "questions")]
    pub question: Vec<String>,
    /// Answer each line of a file instead
    #[arg(long, value_name = "FILE", conflicts_with = "question")]
    pub questions: Option<PathBuf>,
    /// Write the answers to this file, a line of JSON each; if it has some of them already, go on after these
    #[arg(long, value_name = "FILE", requires = "questions", conflicts_with = "trace")]
    pub into: Option<PathBuf>,
    /// Ask so many questions at a time
    #[arg(long, value_name = "NUMBER", requires = "into", default_value_t = 4)]
    pub at_once: usize,
    #[command(flatten)]
    pub changes: PlanChanges,
    /// Answer only from chunks for which this filter holds, such as 'date >= 2025-03 and page < 9'
    #[arg(long, value_name = "FILTER")]
    pub filter: Option<String>,
    /// Answer as of a day, such as 2025-06-30, if sources disagree [default: the day that the question names, else the latest source]
    #[arg(long, value_name = "DATE", value_parser = date)]
    pub as_of: Option<Date>,
    /// Answer with the sentence that answers, without whole lists and exceptions
    #[arg(long)]
    pub brief: bool,
    /// Show what every stage did
    #[arg(long)]
    pub trace: bool,
    /// Write a page to study: answer, claims, sources, timeline, passages, prompt
    #[arg(long, value_name = "FILE", conflicts_with = "questions")]
    pub trace_page: Option<PathBuf>,
    /// Overwrite a page that exists
    #[arg(long, requires = "trace_page")]
    pub force: bool,
    /// Print the prompt that the model would get, with its tokens and the host, and send nothing
    #[arg(long, conflicts_with_all = ["questions", "trace", "trace_page"])]
    pub show_prompt: bool,
}

fn date(text: &str) -> Result<Date, String> {
    Date::from_written(text).ok_or_else(|| "write a day as 2025-06-30".to_owned())
}

/// The conversation, and what to do with it.
#[derive(Args)]
pub struct ChatArguments {
    /// The name of the conversation, to begin it or to continue it [default: a new one, named by the time]
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// Answer only from chunks for which this filter holds
    #[arg(long, value_name = "FILTER")]
    pub filter: Option<String>,
    /// List the conversations
    #[arg(long, conflicts_with_all = ["name", "filter"], group = "instead")]
    pub list: bool,
    /// Write the conversation to a file, as JSON if its name ends in .json, or else as Markdown
    #[arg(long, value_name = "FILE", requires = "name", group = "instead")]
    pub export: Option<PathBuf>,
    /// Give the conversation another name
    #[arg(long, value_name = "NEW", requires = "name", group = "instead")]
    pub rename: Option<String>,
    /// Remove the conversation
    #[arg(long, requires = "name", group = "instead")]
    pub delete: bool,
}

/// A form of a document or a digest.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// Headings, lists and tables as Markdown
    Markdown,
    /// The text alone
    Text,
    /// The same as --json
    Json,
}

#[derive(Subcommand)]
pub enum Verb {
    /// Build a corpus of an invented harbour's documents, and ask it three questions
    Demo {
        /// Serve the corpus with a page to ask it instead, with a stand-in for a model
        #[cfg(feature = "serve")]
        #[arg(long)]
        serve: bool,
        /// With --serve: the port; 0 means any that is free
        #[cfg(feature = "serve")]
        #[arg(long, value_name = "NUMBER", requires = "serve")]
        port: Option<u16>,
    },
    /// Write a logothete.toml to start from, with every setting
    New {
        /// Files and folders that documents come from, relative to the configuration file
        #[arg(value_name = "PATH", conflicts_with = "templates")]
        paths: Vec<PathBuf>,
        /// Write the prompts to a folder prompts instead, to change them
        #[arg(long)]
        templates: bool,
    },
    /// Show what the parser sees: blocks, pages, tables, warnings
    Parse(ParseArguments),
    /// Show where chunks begin and end, and how long they are
    Chunk(ChunkArguments),
    /// Bring the corpus up to date with files and folders
    Build {
        /// Files or folders [default: those of the configuration, or all that were built before]
        #[arg(value_name = "PATH")]
        paths: Vec<PathBuf>,
        /// Remove documents that are gone even when they are more than half of a folder
        #[arg(long)]
        prune: bool,
        /// Print what would be read, cut and written, and what it would cost; change nothing
        #[arg(long, conflicts_with = "prune")]
        estimate: bool,
        #[command(flatten)]
        upkeep: Upkeep,
    },
    /// Show what is in the corpus, or in a document or a chunk of it
    Show {
        /// A document's metadata and its chunks
        #[arg(long, value_name = "NAME", conflicts_with = "chunk")]
        document: Option<String>,
        /// A chunk's text, context and metadata, and the first numbers of its vector
        #[arg(long, value_name = "ID")]
        chunk: Option<String>,
        /// Read every byte of the indexes, compare checksums, and check the catalogue
        #[arg(long)]
        verify: bool,
        /// Write all of the corpus to a file as JSON Lines
        #[arg(long, value_name = "FILE", conflicts_with_all = ["document", "chunk", "verify"])]
        export: Option<PathBuf>,
    },
    /// Find the passages that fit a query best
    Search(SearchArguments),
    /// Answer a question, with the place that each sentence comes from
    Ask(AskArguments),
    /// Hold a conversation that remembers what was said
    Chat(ChatArguments),
    /// Hold a text against the corpus, claim by claim; exit code 4 if something in it is contradicted
    Check(CheckArguments),
    /// Tell what whole documents say, field by field, with the place of each statement
    Digest(DigestArguments),
    /// Show the tree of summaries: chunks that are alike, summed up, and summed up again
    Tree(TreeArguments),
    /// Tell what the pipeline does, stage by stage, and draw it
    Describe(DescribeArguments),
    /// Score search and answers on a set of questions
    Evaluate(EvaluateArguments),
    /// Find settings that are really better on a set of questions
    Tune(TuneArguments),
    /// Serve the corpus on this machine: a page to ask it, and an HTTP API
    #[cfg(feature = "serve")]
    Serve(ServeArguments),
    /// Offer the corpus to a program that speaks the Model Context Protocol, on standard input and output
    #[cfg(feature = "serve")]
    Tools,
}

#[derive(Args)]
pub struct TuneArguments {
    /// A question set, in JSON Lines
    #[arg(value_name = "SET")]
    pub set: PathBuf,
    /// Only the questions of this split, such as dev
    #[arg(long)]
    pub split: Option<String>,
    /// A setting and the values to try, such as search.keyword=0.3,0.7, in place of the usual ones; repeat it for several
    #[arg(long, value_name = "SETTING=VALUES")]
    pub over: Vec<String>,
    /// What is to be better: right, or a measure such as ndcg@10
    #[arg(long, value_name = "MEASURE", default_value = "right")]
    pub measure: String,
    /// Write the settings into the configuration file if they are really better
    #[arg(long)]
    pub write: bool,
}

/// What to check.
#[derive(Args)]
pub struct CheckArguments {
    /// A text or Markdown file; - for standard input
    #[arg(value_name = "FILE", required_unless_present = "pairs")]
    pub file: Option<String>,
    /// Show the claims that are supported too
    #[arg(long)]
    pub all: bool,
    /// Check lines of {"id", "claim", "evidence"} instead, without a corpus; if they have "verdict", how well the check does is measured
    #[arg(long, value_name = "FILE", conflicts_with = "file")]
    pub pairs: Option<PathBuf>,
}

/// What of the tree is shown.
#[derive(Args)]
pub struct TreeArguments {
    /// Documents by their names or the ends of them: show a tree over these alone, which is not kept [default: the tree of the corpus]
    #[arg(value_name = "DOCUMENT")]
    pub documents: Vec<String>,
    /// Tell the summaries of this level, from 1 for the lowest, with the places that they stand on
    #[arg(long, value_name = "NUMBER")]
    pub level: Option<u32>,
    /// Grow a tree first, or let the one that is there follow what has changed
    #[arg(long, conflicts_with = "documents")]
    pub grow: bool,
    /// Grow another tree in place of the one that is there
    #[arg(long, conflicts_with = "documents")]
    pub anew: bool,
    /// Write an HTML page whose branches open and close
    #[arg(long, value_name = "FILE")]
    pub page: Option<PathBuf>,
    /// Draw the tree into this SVG file
    #[arg(long, value_name = "FILE")]
    pub drawing: Option<PathBuf>,
    /// Overwrite files that exist
    #[arg(long)]
    pub force: bool,
}

/// How the pipeline is drawn.
#[derive(Args)]
pub struct DescribeArguments {
    /// Draw the pipeline into this SVG file
    #[arg(long, value_name = "FILE")]
    pub drawing: Option<PathBuf>,
    /// Overwrite a file that exists
    #[arg(long)]
    pub force: bool,
}

/// The documents, and what is told of them.
#[derive(Args)]
pub struct DigestArguments {
    /// Documents of the corpus, by their names or the ends of them; of several, also what they say together and where they differ
    #[arg(required = true, value_name = "DOCUMENT")]
    pub documents: Vec<String>,
    /// Tell what [digest.NAME] of the configuration asks for
    #[arg(long, value_name = "NAME", default_value = "default", hide_default_value = true)]
    pub fields: String,
    /// Tell the summaries of this level of each document's tree instead, from 1 for the finest
    #[arg(long, value_name = "NUMBER", conflicts_with = "fields")]
    pub level: Option<u32>,
    /// The form [default: that of the configuration, else text]
    #[arg(long, value_enum, value_name = "FORM")]
    pub format: Option<Format>,
}

#[derive(Args)]
pub struct EvaluateArguments {
    /// Question sets, in JSON Lines; the file for --draft; questions, one a line, for --queries; judgements for --run
    #[arg(value_name = "SET", required_unless_present = "draft")]
    pub sets: Vec<PathBuf>,
    /// Only the questions of this split, such as dev or test
    #[arg(long)]
    pub split: Option<String>,
    /// Print one question whole: what was wanted, what was found, the answer, and why it is right or wrong
    #[arg(long, value_name = "ID", conflicts_with_all = ["against", "vary", "floor", "report", "plots", "trec"])]
    pub show: Option<String>,
    /// Compare with the settings of another configuration file; repeat it for several
    #[arg(long, value_name = "FILE")]
    pub against: Vec<PathBuf>,
    /// Compare with other values of a setting, such as search.keyword=0.3,0.7; two of them make a grid
    #[arg(long, value_name = "SETTING=VALUES")]
    pub vary: Vec<String>,
    /// Fail if a measure is below its floor in this TOML file, such as "hit@3" = 0.8
    #[arg(long, value_name = "FILE")]
    pub floor: Option<PathBuf>,
    /// Write an HTML page with the measures, the comparisons, and every question with its passages and answer
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Draw the measures, the recall, the scores and the times into this folder, as SVG and PNG
    #[arg(long, value_name = "FOLDER")]
    pub plots: Option<PathBuf>,
    /// Draft this many questions from the documents, and write them to SET, or print them
    #[arg(long, value_name = "COUNT", conflicts_with_all = ["split", "show", "against", "vary", "floor", "report", "plots", "queries", "trec", "run"])]
    pub draft: Option<usize>,
    /// Also draft this many questions that the documents do not answer though they seem to
    #[arg(long, value_name = "COUNT", default_value_t = 0, requires = "draft", hide_default_value = true)]
    pub near_misses: usize,
    /// Show each question that nobody has judged, and write what you say of it back to SET
    #[arg(long, conflicts_with_all = ["split", "show", "against", "vary", "floor", "report", "plots", "trec", "run"])]
    pub queries: bool,
    /// Write the judgements and the rankings of documents into this folder, in the formats of TREC (qrels, run)
    #[arg(long, value_name = "FOLDER")]
    pub trec: Option<PathBuf>,
    /// Measure this ranking (TREC run) against SET, which has judgements (TREC qrels); repeat it to compare
    #[arg(long, value_name = "FILE", conflicts_with_all = ["split", "show", "against", "vary", "trec"])]
    pub run: Vec<PathBuf>,
}
