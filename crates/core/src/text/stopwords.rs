//! Function words by language.

use super::Language;

/// Sorted for a binary search.
const STOPWORDS: &[&str] = &[
    "a",
    "about",
    "above",
    "after",
    "again",
    "all",
    "also",
    "am",
    "an",
    "and",
    "any",
    "anyone",
    "are",
    "as",
    "at",
    "be",
    "because",
    "been",
    "before",
    "being",
    "below",
    "between",
    "both",
    "but",
    "by",
    "can",
    "could",
    "did",
    "do",
    "does",
    "doing",
    "done",
    "down",
    "during",
    "each",
    "either",
    "every",
    "for",
    "from",
    "further",
    "get",
    "give",
    "given",
    "go",
    "got",
    "had",
    "happen",
    "happened",
    "happens",
    "has",
    "have",
    "having",
    "he",
    "her",
    "here",
    "hers",
    "him",
    "his",
    "how",
    "i",
    "if",
    "in",
    "into",
    "is",
    "it",
    "its",
    "just",
    "kind",
    "let",
    "like",
    "many",
    "may",
    "me",
    "might",
    "more",
    "most",
    "much",
    "must",
    "my",
    "neither",
    "no",
    "nor",
    "not",
    "now",
    "of",
    "off",
    "on",
    "once",
    "one",
    "only",
    "or",
    "other",
    "ought",
    "our",
    "ours",
    "out",
    "over",
    "own",
    "please",
    "right",
    "same",
    "shall",
    "she",
    "should",
    "so",
    "some",
    "somebody",
    "someone",
    "something",
    "sort",
    "such",
    "tell",
    "than",
    "that",
    "the",
    "their",
    "theirs",
    "them",
    "then",
    "there",
    "these",
    "they",
    "this",
    "those",
    "through",
    "to",
    "too",
    "under",
    "until",
    "up",
    "upon",
    "us",
    "very",
    "was",
    "we",
    "were",
    "what",
    "when",
    "where",
    "whether",
    "which",
    "while",
    "who",
    "whom",
    "whose",
    "why",
    "will",
    "with",
    "within",
    "without",
    "would",
    "you",
    "your",
    "yours",
];

/// Returns `true` if a folded word is an English function word, such as `the` or `which`.
pub fn is_stopword(folded: &str) -> bool {
    STOPWORDS.binary_search(&folded).is_ok()
}

/// Returns the function words of a language, separated by blanks; those of English are in the list above.
pub(super) fn of_language(language: Language) -> &'static str {
    match language {
        Language::English => "",
        Language::Arabic => {
            "في من على إلى عن مع هذا هذه ذلك تلك التي الذي الذين ما ماذا متى أين كيف كم هل لماذا أو و ثم لا لم لن قد كان كانت \
             يكون هو هي هم نحن أنا أنت كل بعض أي بين عند بعد قبل إن أن"
        }
        Language::Danish => {
            "af alle at blev bliver da de dem den denne der deres det dette dig din disse du efter eller en er et for fra får \
             ham han har have hendes her hun hvad hvem hver hvilke hvilken hvis hvor hvordan hvorfor hvornår i ikke jeg kan \
             man med meget men mig min mod må når og også om op os på sig skal som så til ud under var vi vil være"
        }
        Language::Dutch => {
            "aan al alle als bij daar dan dat de der deze die dit door een en er had heb heeft het hij hoe hun ik in is je \
             kan kunnen maar me men met mij moet na naar niet nog nu of om omdat onder ook op over te tegen toen tot uit \
             van veel voor waar waarom wanneer want was wat we wel welke werd wie wil worden wordt zal ze zich zij zijn zo"
        }
        Language::Finnish => {
            "ei ja on ole olla oli ovat että se ne he hän minä sinä me te tämä tuo nämä joka jotka mikä mitä missä mistä \
             milloin miksi miten kuka kun kuin jos niin myös mutta tai sekä vai voi voivat saa pitää sen sitä siitä niiden \
             kanssa ennen jälkeen vain"
        }
        Language::French => {
            "à au aux avec ce ces cette cet c comme comment d dans de des doit du elle elles en est et être eu il ils j je \
             l la le les leur leurs lui m ma mais me même mes mon n ne nos notre nous on ont ou où par pas peut pour \
             pourquoi qu quand que quel quelle quelles quels qui quoi s sa sans se ses si son sont sur t ta te tes toi ton \
             tu un une vos votre vous y"
        }
        Language::German => {
            "aber alle als also am an auch auf aus bei bin bis da damit dann das dass dem den der des die dies diese \
             diesem diesen dieser dieses doch dort du durch ein eine einem einen einer eines er es für gegen hat haben hier \
             ich ihr ihre im in ist ja jede jeder kann können man mit muss nach nicht noch nun nur ob oder ohne sein seine \
             sich sie sind so über um und uns unter vom von vor wann warum was weil welche welchem welchen welcher welches \
             wenn wer werden wie wieder wieviel will wir wird wo zu zum zur zwischen"
        }
        Language::Greek => {
            "ο η το οι τα του της των τον την και κι κ είναι ήταν να θα με σε από για προς στο στη στην στον στα στις που πως \
             πώς πού πότε ποιος ποια ποιο ποιοι γιατί τι αν ή αλλά δεν δε μη μην ως όπως όταν αυτό αυτή αυτός ένα ένας μια μία"
        }
        Language::Hungarian => {
            "a az és egy hogy nem is van volt vagy de ha csak már még meg mint ki mi ez azt ezt ami aki amely mely melyik \
             mikor hol hogyan miért mennyi milyen kell lehet lesz ő ők én te után előtt alatt között szerint ezek azok"
        }
        Language::Italian => {
            "a ad agli ai al alla alle allo anche c che chi ci come con cosa da dagli dai dal dalla dalle dei degli del \
             della delle dello deve di dove e è ed era essere gli ha hanno i il in io l la le lei lo loro lui ma mi nei \
             negli nel nella nelle no noi non o perché per più può qual quale quali quando quanto questa queste questi \
             questo se si sono su sua sue sui sul sulla suo tra tu un una uno voi"
        }
        Language::Norwegian => {
            "alle at av bare ble blir da de dem den denne der deres det dette du eller en er et etter for fra få ha han \
             har hun hva hvem hver hvilke hvilken hvis hvor hvordan hvorfor i ikke jeg kan man med men må når og også om \
             opp oss over på seg skal som så til under ut var ved vi vil være"
        }
        Language::Portuguese => {
            "a ao aos as à às com como da das de dela dele deles do dos e é ela elas ele eles em entre era essa esse esta \
             está este eu foi há isso isto já lhe mais mas me mesmo na nas não no nos nós o onde os ou para pela pelas pelo \
             pelos pode por porque quais qual quando quanto que quem se sem ser seu seus sua suas são também te tem um uma \
             você"
        }
        Language::Romanian => {
            "a ai al ale am ar are au ca care ce cei cel cine cu cum când cât de decât din dar după e ea ei el este eu fi \
             fie fost în între la le lor lui mai nu o pe pentru poate prin s să se sau sunt și un una unde unei unui"
        }
        Language::Russian => {
            "а без бы был была были было быть в вас ведь во вот все вы где да для до его ее её если есть еще же за и из \
             или им их к как какая какие какой когда кто ли мне может мы на над надо не него нет ни но о об он она они оно \
             от по под почему при с сколько со так также то только у уже чего чем что чтобы это этот эта эти я"
        }
        Language::Spanish => {
            "a al como con cual cuál cuáles cuando cuándo cuánto de debe del desde donde dónde dos e el él ella ellas \
             ellos en entre era es esa ese eso esta está estas este esto estos fue ha han hasta hay la las le les lo los \
             más me mi muy no nos o para pero por porque puede qué que quien quién se según ser si sin sobre son su sus \
             también tiene un una uno unos y ya yo"
        }
        Language::Swedish => {
            "alla att av bara blev blir de dem den denna deras dess det detta dig din du där efter eller en ett från för \
             får ha han har hon hur i inte jag kan man med men mot måste när och också om oss på sedan sig ska skall som så \
             till under upp ut vad var varför vara vem vi vid vilka vilken vilket är"
        }
        Language::Tamil => {
            "ஒரு என்று மற்றும் இந்த இது என்ற கொண்டு என்பது பல ஆகும் அல்லது அவர் நான் உள்ள அந்த இவர் என முதல் என்ன இருந்து சில என் \
             போன்ற வேண்டும் வந்து இதன் அது அவன் தான் எப்போது எங்கே யார் எப்படி ஏன்"
        }
        Language::Turkish => {
            "ama ancak bir biz bu bunu da daha de değil en gibi hangi her hem için ile ise kadar ki kim mi mı mu mü nasıl \
             ne neden nerede niçin o olan olarak oldu olduğu olur onlar sen siz şu var ve veya ya yok zaman çok"
        }
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_list_is_sorted() {
        assert!(super::STOPWORDS.is_sorted());
        assert!(super::is_stopword("which"));
        assert!(!super::is_stopword("harbour"));
    }
}
