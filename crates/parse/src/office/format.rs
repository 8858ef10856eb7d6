//! Numbers and dates as a spreadsheet shows them, by their number formats (ISO/IEC 29500-1, 18.8.30).

use logothete_core::document::Date;

/// Formats that have a number and no text in the file.
const BUILT_IN: &[(u32, &str)] = &[
    (1, "0"),
    (2, "0.00"),
    (3, "#,##0"),
    (4, "#,##0.00"),
    (9, "0%"),
    (10, "0.00%"),
    (11, "0.00E+00"),
    (14, "yyyy-mm-dd"),
    (15, "d-mmm-yy"),
    (16, "d-mmm"),
    (17, "mmm-yy"),
    (18, "h:mm AM/PM"),
    (19, "h:mm:ss AM/PM"),
    (20, "h:mm"),
    (21, "h:mm:ss"),
    (22, "yyyy-mm-dd h:mm"),
    (37, "#,##0"),
    (38, "#,##0"),
    (39, "#,##0.00"),
    (40, "#,##0.00"),
    (45, "mm:ss"),
    (46, "[h]:mm:ss"),
    (47, "mm:ss"),
    (49, "@"),
];
const MONTHS: &[&str] = &[
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

/// Returns the text of a built-in format.
pub(super) fn built_in(number: u32) -> &'static str {
    BUILT_IN.iter().find(|(id, _)| *id == number).map_or("General", |(_, format)| format)
}

/// Returns a number as a format shows it. `from_1904` says that days count from 1904.
pub(super) fn shown(value: f64, format: &str, from_1904: bool) -> String {
    let section = section(value, format);
    let bare = plain_letters(&section);
    if is_date(&bare) {
        return date(value, &section, from_1904).unwrap_or_else(|| general(value));
    }
    if section.eq_ignore_ascii_case("general") || !bare.contains(['0', '#', '?']) {
        return general(value);
    }
    number(value, &section, format.contains(';'))
}

/// Returns the section of a format that is for a value: positive, negative, zero.
fn section(value: f64, format: &str) -> String {
    let mut sections: Vec<String> = vec![String::new()];
    let mut quoted = false;
    for c in format.chars() {
        quoted ^= c == '"';
        match (c, sections.last_mut()) {
            (';', _) if !quoted => sections.push(String::new()),
            (c, Some(last)) => last.push(c),
            _ => {}
        }
    }
    let index = match sections.len() {
        1 => 0,
        2 => usize::from(value < 0.0),
        _ if value == 0.0 => 2,
        _ => usize::from(value < 0.0),
    };
    let chosen = sections.swap_remove(index);
    // Colours, conditions and elapsed hours are in brackets.
    let mut out = String::new();
    let mut rest = chosen.as_str();
    while let Some(start) = rest.find('[') {
        let Some(end) = rest[start..].find(']') else { break };
        let inside = &rest[start + 1..start + end];
        out.push_str(&rest[..start]);
        if matches!(inside.to_ascii_lowercase().as_str(), "h" | "hh" | "m" | "mm" | "s" | "ss") {
            out.push_str(&rest[start..=start + end]);
        } else if let Some(currency) = inside.strip_prefix('$') {
            out.push_str(&format!("\"{}\"", currency.split('-').next().unwrap_or_default()));
        }
        rest = &rest[start + end + 1..];
    }
    out + rest
}

/// Returns a format without what it quotes.
fn plain_letters(format: &str) -> String {
    let mut out = String::new();
    let mut chars = format.chars();
    while let Some(c) = chars.next() {
        match c {
            '"' => drop(chars.by_ref().find(|&c| c == '"')),
            '\\' | '_' | '*' => drop(chars.next()),
            c => out.push(c),
        }
    }
    out
}

fn is_date(bare: &str) -> bool {
    let lower = bare.to_ascii_lowercase();
    lower != "general" && lower.contains(['y', 'd', 'h', 's']) || lower.contains("mmm") || lower.contains("mm:")
}

/// A format may ask for so many digits before the point.
const MAX_DIGITS: usize = 64;

/// Formats a number without a format: the fewest digits that identify it, at most fifteen.
pub(super) fn general(value: f64) -> String {
    if value == value.trunc() && value.abs() < 1e15 {
        return format!("{value:.0}");
    }
    let digits = 14 - value.abs().log10().floor().clamp(-5.0, 14.0) as i32;
    let text = format!("{value:.*}", digits.clamp(0, 20) as usize);
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

fn number(value: f64, format: &str, own_sign: bool) -> String {
    let bare = plain_letters(format);
    let exponent = bare.contains(['E', 'e']);
    let percent = bare.matches('%').count();
    let scaled = value.abs() * 100f64.powi(percent.min(3) as i32);
    let bare = bare.split(['E', 'e']).next().unwrap_or_default();
    let pattern: String = bare.chars().filter(|c| "0#?.,".contains(*c)).collect();
    let (whole, decimals) = pattern.split_once('.').unwrap_or((&pattern, ""));
    let places = decimals.chars().filter(|c| "0#?".contains(*c)).count().min(15);
    let needed = decimals.chars().filter(|c| *c == '0').count();
    // Commas after the last digit divide by thousands.
    let thousands = whole.len() - whole.trim_end_matches(',').len();
    let scaled = scaled / 1000f64.powi(thousands.min(4) as i32);
    if exponent {
        return general_exponent(value, places);
    }
    let mut text = format!("{scaled:.places$}");
    while text.contains('.') && text.ends_with('0') && text.len() - text.find('.').unwrap_or(0) - 1 > needed {
        text.pop();
    }
    let text = text.trim_end_matches('.').to_owned();
    let (digits, fraction) = text.split_once('.').map_or((text.as_str(), None), |(digits, rest)| (digits, Some(rest)));
    let least = whole.chars().filter(|c| *c == '0').count().min(MAX_DIGITS);
    let mut digits = format!("{digits:0>least$}");
    if whole.trim_end_matches(',').contains(',') {
        digits = grouped(&digits);
    }
    let shown = fraction.map_or(digits.clone(), |fraction| format!("{digits}.{fraction}"));
    let negative = value < 0.0 && !own_sign && shown.contains(|c: char| ('1'..='9').contains(&c));
    format!("{}{}", if negative { "-" } else { "" }, around(format, &shown))
}

/// Returns a number with what its format writes before and after it.
fn around(format: &str, shown: &str) -> String {
    let mut out = String::new();
    let mut placed = false;
    let mut chars = format.chars();
    while let Some(c) = chars.next() {
        match c {
            '"' => out.extend(chars.by_ref().take_while(|&c| c != '"')),
            '\\' => out.extend(chars.next()),
            '_' | '*' => drop(chars.next()),
            '0' | '#' | '?' | '.' | ',' => {
                if !placed {
                    out.push_str(shown);
                    placed = true;
                }
            }
            c => out.push(c),
        }
    }
    out.trim().to_owned()
}

fn grouped(digits: &str) -> String {
    let mut out = String::new();
    for (index, c) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

fn general_exponent(value: f64, places: usize) -> String {
    let text = format!("{value:.places$E}");
    match text.split_once('E') {
        Some((mantissa, exponent)) => {
            let (sign, digits) = exponent.strip_prefix('-').map_or(('+', exponent), |digits| ('-', digits));
            format!("{mantissa}E{sign}{digits:0>2}")
        }
        None => text,
    }
}

/// Returns a day count as a date. Day 60 is 29 February 1900, which never was; days before it are one off, and rare.
fn date(value: f64, format: &str, from_1904: bool) -> Option<String> {
    if !(0.0..2_958_466.0).contains(&value) {
        return None;
    }
    let total_seconds = (value * 86_400.0).round();
    let days = (total_seconds / 86_400.0).floor();
    let seconds = (total_seconds - days * 86_400.0) as u32;
    let (year, month, day) = Date::civil(days as i64 - if from_1904 { 24_107 } else { 25_569 });
    let (hour, minute, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    let half = plain_letters(format).to_ascii_lowercase().contains("am/pm");
    let clock = if half { (hour + 11) % 12 + 1 } else { hour };
    let mut out = String::new();
    let mut rest = format;
    let mut after_hour = false;
    while let Some(c) = rest.chars().next() {
        let lower = c.to_ascii_lowercase();
        let run = rest.chars().take_while(|next| next.to_ascii_lowercase() == lower).count();
        let mut used = c.len_utf8() * run;
        let two = |value: u32| if run >= 2 { format!("{value:02}") } else { value.to_string() };
        match lower {
            '"' => {
                let end = rest[1..].find('"').map_or(rest.len(), |end| end + 2);
                out.push_str(rest[1..end].trim_end_matches('"'));
                used = end;
            }
            '\\' => {
                let next = rest.chars().nth(1);
                out.extend(next);
                used = 1 + next.map_or(0, char::len_utf8);
            }
            'y' if run > 2 => out.push_str(&format!("{year:04}")),
            'y' => out.push_str(&format!("{:02}", year % 100)),
            'm' if after_hour || rest[used..].trim_start_matches(':').to_ascii_lowercase().starts_with('s') => {
                out.push_str(&two(minute));
                after_hour = false;
            }
            'm' if run >= 4 => out.push_str(MONTHS.get(month as usize - 1)?),
            'm' if run == 3 => out.push_str(&MONTHS.get(month as usize - 1)?[..3]),
            'm' => out.push_str(&two(month)),
            'd' if run >= 3 => {}
            'd' => out.push_str(&two(day)),
            'h' => {
                out.push_str(&two(clock));
                after_hour = true;
            }
            's' => out.push_str(&two(second)),
            'a' if rest.to_ascii_lowercase().starts_with("am/pm") => {
                out.push_str(if hour < 12 { "AM" } else { "PM" });
                used = 5;
            }
            '[' => {
                let end = rest.find(']').map_or(rest.len(), |end| end + 1);
                out.push_str(&(total_seconds / 3600.0).floor().to_string());
                used = end;
                after_hour = true;
            }
            '_' | '*' => used = rest.chars().take(2).map(char::len_utf8).sum(),
            '@' => {}
            _ => out.push_str(&rest[..used]),
        }
        rest = &rest[used.min(rest.len())..];
    }
    Some(out.trim().trim_matches(',').trim().to_owned())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(1234.5, "General", "1234.5")]
    #[case(0.1 + 0.2, "General", "0.3")]
    #[case(1234.5, "#,##0.00", "1,234.50")]
    #[case(1_234_567.0, "#,##0", "1,234,567")]
    #[case(0.125, "0.0%", "12.5%")]
    #[case(-3.0, "0.00", "-3.00")]
    #[case(-3.0, "0.00;(0.00)", "(3.00)")]
    #[case(45.5, "0.00\" crowns\"", "45.50 crowns")]
    #[case(8.4, "0.0\\ \"m\"", "8.4 m")]
    #[case(12.0, "[$€-2] #,##0", "€ 12")]
    #[case(7.0, "000", "007")]
    #[case(45_383.0, "yyyy-mm-dd", "2024-04-01")]
    #[case(45_383.270_833_333, "yyyy-mm-dd hh:mm", "2024-04-01 06:30")]
    #[case(45_383.0, "d mmmm yyyy", "1 April 2024")]
    #[case(0.75, "h:mm AM/PM", "6:00 PM")]
    #[case(1.5, "[h]:mm", "36:00")]
    #[case(0.000_012_5, "0.00E+00", "1.25E-05")]
    fn shows(#[case] value: f64, #[case] format: &str, #[case] expected: &str) {
        assert_eq!(shown(value, format, false), expected);
    }

    #[test]
    fn a_format_of_many_digits_is_cut() {
        assert_eq!(shown(7.0, &"0".repeat(70_000), false).len(), MAX_DIGITS);
    }
}
