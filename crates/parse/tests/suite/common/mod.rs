//! PDF files made for tests.

/// A PDF with a page for each content stream, set in one of the standard fonts. Sizes are points.
pub fn pdf(width: u32, height: u32, streams: &[&str]) -> Vec<u8> {
    let mut objects = vec!["<< /Type /Catalog /Pages 2 0 R >>".to_owned()];
    let kids: Vec<String> = (0..streams.len()).map(|page| format!("{} 0 R", 4 + 2 * page)).collect();
    objects.push(format!("<< /Type /Pages /Kids [{}] /Count {} >>", kids.join(" "), streams.len()));
    objects.push("<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>".to_owned());
    for (page, stream) in streams.iter().enumerate() {
        objects.push(format!(
            "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 {width} {height}] /Contents {} 0 R /Resources << /Font << /F 3 0 R >> >> >>",
            5 + 2 * page
        ));
        objects.push(format!("<< /Length {} >>\nstream\n{stream}\nendstream", stream.len()));
    }
    file(&objects)
}

/// A PDF of these objects, which are numbered from 1. The first is the catalogue.
pub fn file(objects: &[String]) -> Vec<u8> {
    let mut out = b"%PDF-1.4\n".to_vec();
    let mut places = Vec::new();
    for (number, object) in objects.iter().enumerate() {
        places.push(out.len());
        out.extend(format!("{} 0 obj\n{object}\nendobj\n", number + 1).bytes());
    }
    let table = out.len();
    out.extend(format!("xref\n0 {}\n0000000000 65535 f \n", objects.len() + 1).bytes());
    places.iter().for_each(|place| out.extend(format!("{place:010} 00000 n \n").bytes()));
    out.extend(format!("trailer << /Size {} /Root 1 0 R >>\nstartxref\n{table}\n%%EOF\n", objects.len() + 1).bytes());
    out
}
