//! Tables whose cells are known, and columns whose order is known, through real makers of PDF: LibreOffice, Chromium and a
//! TeX engine. `cargo run --release -p logothete-bench --bin layout [-- --final] [--keep FOLDER]`
//!
//! Without `--final` the half that the parser is tuned on is measured, with it the half that is kept for reports.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

use logothete_bench::source::{Columns, Layout, Maker, Sheet};
use logothete_bench::words;
use logothete_core::document::{BlockKind, Document};

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let last = arguments.iter().any(|argument| argument == "--final");
    let keep = arguments.iter().position(|argument| argument == "--keep").and_then(|at| arguments.get(at + 1));
    let folder =
        keep.map_or_else(|| std::env::temp_dir().join(format!("layout-{}", std::process::id())), PathBuf::from);
    let outcome = fs::create_dir_all(&folder).map_err(|error| error.to_string()).and_then(|()| measure(&folder, last));
    if keep.is_none() {
        let _ = fs::remove_dir_all(&folder);
    }
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(problem) => {
            eprintln!("{problem}");
            ExitCode::FAILURE
        }
    }
}

fn measure(folder: &Path, last: bool) -> Result<(), String> {
    let variants: Vec<u64> = (0..4).filter(|variant| (variant % 2 == 1) == last).collect();
    let mut sheets = Vec::new();
    for maker in Maker::ALL {
        for layout in Layout::ALL {
            for &variant in &variants {
                sheets.push(Sheet::new(maker, layout, variant));
            }
        }
    }
    let pages: Vec<Columns> = Maker::ALL
        .into_iter()
        .flat_map(|maker| variants.iter().map(move |&variant| Columns::new(maker, variant)))
        .collect();
    for sheet in &sheets {
        fs::write(folder.join(sheet.file()), sheet.source()).map_err(|error| error.to_string())?;
    }
    for page in &pages {
        fs::write(folder.join(page.file()), page.source()).map_err(|error| error.to_string())?;
    }
    let files = sheets
        .iter()
        .map(|sheet| (sheet.maker, sheet.file()))
        .chain(pages.iter().map(|page| (page.maker, page.file())));
    make(folder, &files.collect::<Vec<_>>())?;

    println!("{:<14} {:<12} {:>6} {:>8} {:>8}", "made by", "layout", "tables", "cell F1", "headers");
    let (mut all, mut all_found, mut all_wanted) = (0, 0, 0);
    for maker in Maker::ALL {
        for layout in Layout::ALL {
            let (mut hits, mut found, mut wanted, mut headers, mut tables) = (0, 0, 0, 0, 0);
            for sheet in sheets.iter().filter(|sheet| sheet.maker == maker && sheet.layout == layout) {
                let document = read(folder, &sheet.file())?;
                let (cells, header_rows) = cells(&document);
                let expected = sheet.cells();
                let hit = expected.iter().filter(|cell| cells.contains(cell)).count();
                if hit < expected.len() && std::env::var_os("SHOW_MISSED").is_some() {
                    println!("  {}: {hit} of {}, {} found", sheet.file(), expected.len(), cells.len());
                    for cell in expected.iter().filter(|cell| !cells.contains(cell)).take(6) {
                        let there = cells.iter().find(|other| (other.0, other.1) == (cell.0, cell.1));
                        println!("    {cell:?} is {there:?}");
                    }
                }
                hits += hit;
                found += cells.len();
                wanted += expected.len();
                headers += usize::from(header_rows == sheet.header_rows());
                tables += 1;
            }
            let f1 = 2.0 * hits as f64 / (found + wanted).max(1) as f64;
            println!("{:<14} {:<12} {tables:>6} {f1:>8.3} {headers:>6}/{tables}", maker.name(), layout.name());
            all += hits;
            all_found += found;
            all_wanted += wanted;
        }
    }
    println!("all {} tables: cell F1 {:.3}", sheets.len(), 2.0 * all as f64 / (all_found + all_wanted).max(1) as f64);
    let mut exact = 0;
    for page in &pages {
        let document = read(folder, &page.file())?;
        let ours = words(&document.text);
        let right = ours == words(&page.text());
        if !right && std::env::var_os("SHOW_MISSED").is_some() {
            let wanted = words(&page.text());
            let at = ours.iter().zip(&wanted).position(|(a, b)| a != b).unwrap_or(ours.len().min(wanted.len()));
            println!(
                "  {}: differs at word {at}: {:?} for {:?}",
                page.file(),
                ours.get(at..at + 8),
                wanted.get(at..at + 8)
            );
        }
        exact += usize::from(right);
    }
    println!("pages in columns, every word in its place: {exact} of {}", pages.len());
    Ok(())
}

fn read(folder: &Path, file: &str) -> Result<Document, String> {
    let path = folder.join(file).with_extension("pdf");
    let bytes = fs::read(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    logothete_parse::parse(file, &bytes).map_err(|error| format!("{file}: {error}"))
}

/// The cells of all tables of a document: row, column, text; and the header rows of the first.
fn cells(document: &Document) -> (Vec<(usize, usize, String)>, usize) {
    let mut found = Vec::new();
    let mut header_rows = 0;
    let mut base = 0;
    for block in document.blocks.iter().filter(|block| block.kind == BlockKind::Table) {
        let Some(table) = &block.table else { continue };
        if base == 0 {
            header_rows = table.header_rows;
        }
        for (row, cells) in table.rows.iter().enumerate() {
            for (column, cell) in cells.cells.iter().enumerate() {
                found.push((base + row, column, document.slice(*cell).to_owned()));
            }
        }
        base += table.rows.len();
    }
    (found, header_rows)
}

/// Makes the PDF files.
fn make(folder: &Path, files: &[(Maker, String)]) -> Result<(), String> {
    let of = |maker: Maker| files.iter().filter(move |(by, _)| *by == maker).map(|(_, file)| file.as_str());
    for (ending, filter) in [("html", "--infilter=HTML (StarWriter)"), ("fodt", "--nologo")] {
        let mut office = Command::new("soffice");
        office.args(["--headless", filter, "--convert-to", "pdf", "--outdir", "."]);
        office.args(of(Maker::Office).filter(|file| file.ends_with(ending)));
        run(office.env("HOME", folder), folder, "soffice (Debian: libreoffice-writer)")?;
    }
    for file in of(Maker::Browser) {
        let pdf = Path::new(file).with_extension("pdf");
        let mut browser = Command::new("chromium");
        browser.args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-pdf-header-footer",
            "--disable-background-networking",
        ]);
        browser.arg(format!("--user-data-dir={}", folder.join("profile").display()));
        browser.arg(format!("--print-to-pdf={}", pdf.display())).arg(format!("file://{}", folder.join(file).display()));
        run(&mut browser, folder, "chromium (Debian: chromium)")?;
    }
    for file in of(Maker::Tex) {
        let mut tex = Command::new("pdflatex");
        run(tex.args(["-interaction=batchmode", file]), folder, "pdflatex (Debian: texlive-latex-recommended)")?;
    }
    Ok(())
}

fn run(command: &mut Command, folder: &Path, name: &str) -> Result<(), String> {
    let done = command.current_dir(folder).stdout(Stdio::null()).stderr(Stdio::null()).status();
    match done {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("{name} failed: {status}")),
        Err(error) => Err(format!("{name}: {error}")),
    }
}
