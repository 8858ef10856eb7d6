//! `logothete chat`

use std::io::{BufRead, IsTerminal, Write};
use std::path::Path;

use logothete::answer::AskEvent;
use logothete::conversation::{Conversation, Turn};
use logothete::search::Filter;
use logothete::trace::TraceDetails;
use logothete::{Corpus, Error, ErrorKind, Result, SearchRequest};
use rustyline::error::ReadlineError;
use serde_json::{Value, json};

use super::ask::print_now;
use super::output::write_file;
use super::{configuration, corpus};
use crate::args::{ChatArguments, CorpusArguments};
use crate::view::{
    Align, Flow, Style, answer, count, indented, prompt, shortened, sources, table, trace, visible, width,
};
use crate::{DONE, Output};

/// What can be said besides questions, and what it does.
const COMMANDS: [(&str, &str); 14] = [
    (":sources", "the sources of the last answer again"),
    (":passages", "the passages that the search found"),
    (":prompt QUESTION", "the prompt that a question would send; without one, that of the last turn"),
    (":trace", "what every stage of the last turn did"),
    (":filter FILTER", "answer only from chunks for which it holds; without one, from all"),
    (":new NAME", "start over, under a name or without one"),
    (":list", "the conversations"),
    (":resume NAME", "go on with another conversation"),
    (":rename NAME", "give this conversation a name"),
    (":export FILE", "write it to a file: JSON or Markdown, by the name"),
    (":show", "the whole conversation"),
    (":delete", "remove this conversation"),
    (":help", "this list"),
    (":quit", "leave; Ctrl-D does the same"),
];

pub async fn run(at: &CorpusArguments, arguments: &ChatArguments, as_json: bool) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let style = Style::of_stdout();
    if arguments.list {
        let (text, json) = list(&corpus, style).await?;
        return Ok(Output { text, json, code: DONE });
    }
    let name = arguments.name.clone().unwrap_or_else(now);
    let mut conversation = corpus.conversation(name)?;
    if let Some(file) = &arguments.export {
        let text = export(&conversation, file).await?;
        return Ok(Output { text, json: json!({ "file": file }), code: DONE });
    }
    if let Some(new) = &arguments.rename {
        conversation.rename(new.as_str()).await?;
        let text = format!("{} {new}\n", style.faint("It is now called"));
        return Ok(Output { text, json: json!({ "name": new }), code: DONE });
    }
    if arguments.delete {
        let deleted = conversation.delete().await?;
        let text = format!("{}\n", if deleted { "It is gone." } else { "There is no conversation of this name." });
        return Ok(Output { text, json: json!({ "deleted": deleted }), code: DONE });
    }
    if as_json {
        let turns = conversation.turns().await?;
        return Ok(Output {
            text: String::new(),
            json: json!({ "name": conversation.name(), "turns": turns }),
            code: DONE,
        });
    }
    let filter = super::filter(arguments.filter.as_deref())?;
    let talks_to = std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
    let mut chat = Chat { corpus, conversation, filter, last: None, style, talks_to };
    chat.hold().await?;
    Ok(Output { text: String::new(), json: Value::Null, code: DONE })
}

/// Returns a name from the time.
fn now() -> String {
    let seconds = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_secs();
    let (year, month, day) = logothete::document::Date::civil((seconds / 86_400).cast_signed());
    let (hour, minute, second) = (seconds / 3_600 % 24, seconds / 60 % 60, seconds % 60);
    format!("{year:04}-{month:02}-{day:02} {hour:02}:{minute:02}:{second:02}")
}

async fn list(corpus: &Corpus, style: Style) -> Result<(String, Value)> {
    let all = corpus.conversations().await?;
    if all.is_empty() {
        return Ok(("There is no conversation yet.\n".to_owned(), json!({ "conversations": all })));
    }
    let mut rows = vec![["Name", "Last", "Turns", "First question"].map(str::to_owned).to_vec()];
    for info in &all {
        let last = info.last.replace('T', " ").trim_end_matches('Z').to_owned();
        rows.push(vec![info.name.clone(), last, info.turns.to_string(), info.first_question.clone()]);
    }
    let text = table(&rows, &[Align::Left, Align::Left, Align::Right, Align::Left], 0, style);
    Ok((text, json!({ "conversations": all })))
}

/// Writes a conversation to a new file.
async fn export(conversation: &Conversation, file: &Path) -> Result<String> {
    let turns = conversation.turns().await?;
    if turns.is_empty() {
        return Err(Error::new(ErrorKind::NotFound, "there is no conversation of this name").at(conversation.name()));
    }
    let is_json = file.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("json"));
    let content = match is_json {
        true => crate::json_text(json!({ "name": conversation.name(), "turns": turns })),
        false => conversation.to_markdown().await?,
    };
    write_file(file, content.as_bytes(), false)?;
    Ok(format!("Wrote {} to {}\n", count(turns.len() as u64, "turn", "turns"), file.display()))
}

/// A conversation that is held with a person, or with lines from a pipe.
struct Chat {
    corpus: Corpus,
    conversation: Conversation,
    filter: Option<Filter>,
    last: Option<Turn>,
    style: Style,
    /// Whether a person is at a terminal.
    talks_to: bool,
}

impl Chat {
    async fn hold(&mut self) -> Result<()> {
        let turns = self.conversation.turns().await?;
        if self.talks_to {
            self.print(&self.greeting(&turns)?);
        }
        self.last = turns.last().cloned();
        let mut lines = Lines::new(self.talks_to, &turns)?;
        while let Some(line) = lines.next()? {
            let said = line.trim();
            let going_on = match said.strip_prefix(':') {
                _ if said.is_empty() => Ok(true),
                Some(command) => self.obey(command).await,
                None => self.ask(said).await.map(|()| true),
            };
            match going_on {
                Ok(true) => {}
                Ok(false) => break,
                // One question that fails does not end a conversation; a script is told at once.
                Err(error) if self.talks_to => eprintln!("{}", visible(&format!("error: {error}"), false)),
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    fn greeting(&self, turns: &[Turn]) -> Result<String> {
        let with = match self.corpus.pipeline().model()? {
            Some(model) => format!("{model} answers"),
            None => "answers are sentences of the documents".to_owned(),
        };
        let so_far = match turns.len() {
            0 => String::new(),
            turns => format!(", {} so far", count(turns as u64, "turn", "turns")),
        };
        let line = format!("Conversation “{}”{so_far}; {with}. :help lists the commands.", self.conversation.name());
        Ok(format!("{}\n", self.style.faint(indented(&line, 0).trim_end())))
    }

    fn print(&self, text: &str) {
        let mut out = std::io::stdout().lock();
        // A terminal that is gone ends the next read.
        let _ = out.write_all(visible(text, self.style.is_on()).as_bytes()).and_then(|()| out.flush());
    }

    async fn ask(&mut self, question: &str) -> Result<()> {
        let mut request = SearchRequest::new(question).traced();
        if let Some(filter) = &self.filter {
            request = request.filter(filter.clone());
        }
        let has_model = self.corpus.pipeline().model()?.is_some();
        let style = self.style;
        if !self.talks_to {
            self.print(&format!("{} {question}\n", style.faint("?")));
        }
        let mut flow = Flow::new(std::io::stdout().is_terminal().then(width));
        let tell = move |event: AskEvent<'_>| match event {
            AskEvent::Stage(record) => {
                if let TraceDetails::Condense { question, .. } = &record.details {
                    let text = style.faint(indented(&format!("searching: {question}"), 0).trim_end());
                    print_now(&format!("{}\n", visible(&text, style.is_on())));
                }
            }
            AskEvent::Text(text) if has_model => print_now(&flow.next(text)),
            _ => {}
        };
        let asking = self.conversation.ask_streaming(request, tell);
        let turn = tokio::select! {
            turn = asking => turn?,
            _ = tokio::signal::ctrl_c() => {
                self.print("\nStopped; the question is not kept.\n");
                return Ok(());
            }
        };
        let reply = &turn.reply;
        let text = match has_model {
            true => format!("\n{}\n", sources(&reply.answer, style)),
            false => format!("{}\n", answer(&reply.answer, style)),
        };
        self.print(&text);
        reply.notes.iter().for_each(|note| self.print(&format!("{}\n", style.warning(note))));
        self.last = Some(turn);
        Ok(())
    }

    /// Does what a command says. Returns `false` if it ends the conversation.
    async fn obey(&mut self, command: &str) -> Result<bool> {
        let (name, rest) = command.split_once(' ').map_or((command, ""), |(name, rest)| (name, rest.trim()));
        let style = self.style;
        let needed = |what: &str| Error::new(ErrorKind::InvalidRequest, format!(":{name} needs {what}"));
        let text = match name {
            "quit" | "q" => return Ok(false),
            "help" | "h" => {
                COMMANDS.iter().map(|(name, does)| format!("  {name:<18} {}\n", style.faint(does))).collect()
            }
            "sources" => self.of_last(|turn| sources(&turn.reply.answer, style)),
            "trace" => self.of_last(|turn| match turn.reply.trace.is_empty() {
                true => "The trace of a turn is not kept; ask again to see one.\n".to_owned(),
                false => trace(&turn.reply.trace, style),
            }),
            "passages" => self.passages().await?,
            "prompt" => self.prompt(rest).await?,
            "filter" => {
                self.filter = super::filter((!rest.is_empty()).then_some(rest))?;
                let now = self.filter.as_ref().map_or_else(|| "none".to_owned(), ToString::to_string);
                format!("{} {now}\n", style.faint("filter:"))
            }
            "new" | "resume" => {
                let new = if rest.is_empty() && name == "new" { now() } else { rest.to_owned() };
                self.conversation = self.corpus.conversation(new)?;
                let turns = self.conversation.turns().await?;
                self.last = turns.last().cloned();
                self.greeting(&turns)?
            }
            "list" => list(&self.corpus, style).await?.0,
            "rename" => {
                self.conversation.rename(rest).await?;
                format!("{} {}\n", style.faint("It is now called"), self.conversation.name())
            }
            "export" if rest.is_empty() => return Err(needed("the name of a file")),
            "export" => export(&self.conversation, Path::new(rest)).await?,
            "show" => self.conversation.to_markdown().await?,
            "delete" => {
                let text = if self.conversation.delete().await? { "It is gone.\n" } else { "It was not kept yet.\n" };
                self.conversation = self.corpus.conversation(now())?;
                self.last = None;
                text.to_owned()
            }
            other => {
                let known = COMMANDS.iter().map(|(name, _)| name[1..].split(' ').next().unwrap_or_default().to_owned());
                let hint = logothete::suggest::closest(other, known)
                    .map_or_else(|| ":help lists the commands".to_owned(), |near| format!("did you mean :{near}?"));
                return Err(Error::new(ErrorKind::InvalidRequest, format!("there is no command :{other}; {hint}")));
            }
        };
        self.print(&text);
        Ok(true)
    }

    fn of_last(&self, show: impl FnOnce(&Turn) -> String) -> String {
        self.last.as_ref().map_or_else(|| "Nothing was asked yet.\n".to_owned(), show)
    }

    /// Returns the passages of the last turn.
    async fn passages(&self) -> Result<String> {
        let Some(last) = &self.last else { return Ok("Nothing was asked yet.\n".to_owned()) };
        let passages = match last.reply.passages.as_slice() {
            [] => {
                let request = SearchRequest::new(&last.reply.answer.question).plain();
                let request = match &self.filter {
                    Some(filter) => request.filter(filter.clone()),
                    None => request,
                };
                self.corpus.search(request).await?.passages
            }
            kept => kept.to_vec(),
        };
        let one = |passage: &logothete::search::Passage| {
            let place = self.style.place(&passage.location.to_string());
            format!("{:>3}  {place}\n{}", passage.rank, indented(&shortened(passage.body(), 2 * width()), 5))
        };
        Ok(passages.iter().map(one).collect())
    }

    /// Returns the prompt for a question, or that of the last turn.
    async fn prompt(&self, question: &str) -> Result<String> {
        if !question.is_empty() {
            return Ok(prompt(&self.conversation.preview_prompt(question).await?, self.style));
        }
        Ok(self.of_last(|turn| {
            let messages = turn.reply.trace.records.iter().find_map(|record| match &record.details {
                TraceDetails::Prompt { messages, .. } => Some(messages),
                _ => None,
            });
            match messages {
                Some(messages) => {
                    let one = |message: &logothete::prompt::Message| {
                        format!("{}\n{}\n\n", self.style.faint(message.author.name()), message.content)
                    };
                    messages.iter().map(one).collect()
                }
                None => "No prompt was sent in the last turn; :prompt QUESTION shows that of a question.\n".to_owned(),
            }
        }))
    }
}

/// What is said: lines that a person edits, or lines of a pipe.
enum Lines {
    Edited(Box<rustyline::DefaultEditor>),
    Piped(std::io::Lines<std::io::StdinLock<'static>>),
}

impl Lines {
    /// The questions of earlier turns can be called back with the arrow keys.
    fn new(edited: bool, turns: &[Turn]) -> Result<Self> {
        if !edited {
            return Ok(Self::Piped(std::io::stdin().lock().lines()));
        }
        let failed = |error: ReadlineError| {
            Error::new(ErrorKind::System, format!("the terminal cannot be read: {error}")).because(error)
        };
        let mut editor = rustyline::DefaultEditor::new().map_err(failed)?;
        for turn in turns {
            // A question that cannot be added cannot be called back; nothing else depends on it.
            let _ = editor.add_history_entry(&turn.question);
        }
        Ok(Self::Edited(Box::new(editor)))
    }

    fn next(&mut self) -> Result<Option<String>> {
        let failed = |message: String| Error::new(ErrorKind::System, format!("the input cannot be read: {message}"));
        match self {
            Self::Piped(lines) => lines.next().transpose().map_err(|error| failed(error.to_string())),
            Self::Edited(editor) => match editor.readline("? ") {
                Ok(line) => {
                    let _ = editor.add_history_entry(&line);
                    Ok(Some(line))
                }
                Err(ReadlineError::Interrupted | ReadlineError::Eof) => Ok(None),
                Err(error) => Err(failed(error.to_string())),
            },
        }
    }
}
