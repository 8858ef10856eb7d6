//! Words by which statements agree or disagree: denials, opposites, words that exclude each other, degrees, duties, conditions and doubts.
//!
//! Words of a list are folded and parted by blanks. English lists are the longest; denials are there in the languages that models write most.

use std::collections::HashMap;
use std::sync::LazyLock;

use super::lexicon::{Relation, relation};
use crate::text::{irregular_terms, stem};

/// Words that deny the clause that they stand in.
pub(super) const DENIALS: &str = "not no never none nobody nothing neither nor nowhere cannot cant can't don't doesn't didn't isn't aren't \
    wasn't weren't won't wouldn't shouldn't mustn't needn't couldn't haven't hasn't hadn't unable nicht kein keine keinen keiner nie niemals ne pas \
    aucun aucune jamais nunca ningún ninguna nessun nessuna niet geen nooit";
/// Verbs and adjectives that deny what they are said of.
pub(super) const REFUSALS: &str = "forbid forbids forbidden forbade prohibit prohibits prohibited ban bans banned barred refuse refuses refused reject \
    rejects rejected deny denies denied decline declined lack lacks lacked lacking exclude excludes excluded void invalid impossible illegal unlawful unsafe \
    unnecessary unavailable uninsured unlikely prohibition disallowed disallow avoid avoids avoided avoiding verboten untersagt interdit prohibido vietato";
/// Words behind `no` or `not` with which they deny nothing: `no more than`, `not only`.
pub(super) const AFTER_DENIAL: &str =
    "more less fewer later earlier sooner nearer older younger longer shorter higher lower greater only matter";

/// Pairs of opposites.
const OPPOSITES: &str = "open close; open shut; opened closed; allow forbid; permit prohibit; rise fall; rose fell; rise drop; increase decrease; \
    increase reduce; grow shrink; raise lower; accept reject; include exclude; safe dangerous; harmless harmful; full empty; hot cold; warm cold; warm cool; \
    before after; first last; early late; earlier later; earliest latest; start stop; start end; begin end; begin finish; more less; more fewer; most least; \
    most fewest; most few; above below; over under; higher lower; high low; highest lowest; longer shorter; long short; longest shortest; older younger; old \
    new; oldest newest; older newer; larger smaller; large small; largest smallest; bigger smaller; big small; greater smaller; greatest least; greatest \
    smallest; heavier lighter; faster slower; fast slow; fastest slowest; quick slow; thick thin; thickly thinly; deep shallow; deeper shallower; strong weak; \
    stronger weaker; always never; usually rarely; often seldom; often rarely; win lose; won lost; advance retreat; \
    ahead behind; dry wet; dry damp; up down; left right; free charge; required optional; mandatory optional; compulsory voluntary; \
    support oppose; for against; pass fail; spare destroy; survive destroy; survive perish; maximum minimum; keep delete; keep discard; alone accompanied; alone together; best worst; better worse; good bad; easy difficult; easy \
    hard; soft hard; rough smooth; clean dirty; clear cloudy; light dark; bright dark; public private; internal external; inside outside; indoors \
    outdoors; upper lower; top bottom; front back; wide narrow; wider narrower; expensive cheap; cheaper dearer; rich poor; near far; nearer farther; \
    present absent; presence absence; present missing; locked unlocked; tight loose; tighten loosen; enable disable; on off; arrive depart; arrival departure; arrives leaves; enter leave; entry exit; import export; credit debit; profit loss; gain lose; gained \
    lost; hire dismiss; praise criticise; love hate; remember forget; remembered forgot; alive dead; birth death; born died; married single; guilty innocent; \
    succeed fail; succeeded failed; success failure; fresh stale; fresh frozen; raw cooked; melt freeze; heat cool; fill empty; push pull; lift lower; \
    add remove; added removed; attach detach; connect disconnect; insert remove; expand contract; stretch compress; \
    improve worsen; improved worsened; encourage discourage; agree disagree; agreed disagreed; legal illegal; valid void; valid invalid; possible \
    impossible; likely unlikely; available unavailable; necessary unnecessary; same different; equal unequal; temporary permanent; partly wholly; \
    partial complete; true false; natural artificial; male female; men women; man woman; boy girl; boys girls; son daughter; father mother; brother \
    sister; husband wife; king queen; upstream downstream; uphill downhill; inward outward; clockwise anticlockwise; ancient modern; day night; \
    ascending descending; plus minus; positive negative; active inactive; mild severe; calm rough; loud quiet; shallowest deepest; nearest farthest; keep lose; kept lost; stay change; remain change; beat lose; defeat lose; pass lose; frequent rare; frequent seldom; enough insufficient; \
    majority minority; gain lose; arrive leave; running off; accompany leave; join leave; whole part; wholly partly; \
    multiply divide; tall short; taller shorter; asleep awake; guilty acquitted; employed unemployed; healthy ill; healthy sick; honest dishonest; \
    polite rude; visible hidden; conceal reveal; confirm deny; attack defend; victory defeat; create destroy; build demolish; demolish save; \
    saved demolished; appear vanish; approve reject; approved rejected; grant refuse; granted refused; paid unpaid; known unknown; sold unsold; \
    simple complicated; gather scatter; combine separate; together apart; together separately; voluntary compulsory; inner outer; major minor; \
    senior junior; original copy; permanent provisional; seldom frequently; rarely frequently; soft loud; sweet sour; sharp blunt; smooth rough; \
    steep flat; straight curved; heavy light; tight slack; alive extinct; ahead behind; spend save; sit stand; ask answer; question answer; \
    winner loser; friend enemy; host guest; buyer seller; ancestor descendant; import export; floor ceiling; north south; east west";

/// Sets of words that exclude each other.
const EXCLUSIVE: &[&str] = &[
    "north south east west northern southern eastern western",
    "northeast northwest southeast southwest",
    "red orange yellow green blue purple violet brown black white grey gray pink",
    "monday tuesday wednesday thursday friday saturday sunday",
    "january february april june july august september october november december",
    "spring summer autumn winter",
    "morning afternoon evening night noon midnight",
    "first second third fourth fifth sixth last",
    "weekday weekend",
    "breakfast lunch dinner supper",
    "cash card cheque transfer",
    "wood stone iron steel glass plastic copper brass aluminium concrete brick clay paper leather rubber bronze silver gold tin lead zinc",
    "oak pine beech birch spruce ash elm maple larch willow",
    "wheat rye oats barley maize rice spelt",
    "butter oil lard margarine",
    "beef pork lamb chicken veal fish mutton goose duck turkey",
    "salt sugar pepper vinegar mustard",
    "milk water beer wine tea coffee juice cider",
    "apples pears plums cherries grapes",
    "car bus train ship boat bicycle lorry tram ferry aeroplane coach van",
    "rain snow hail wind storm fog frost heat drought flood fire earthquake landslide avalanche",
    "soprano alto tenor bass",
    "piano violin flute trumpet organ cello harp drum guitar",
    "father mother brother sister uncle aunt cousin nephew niece grandfather grandmother",
    "doctor nurse dentist pharmacist",
    "baker miller butcher brewer smith carpenter mason weaver tailor fisherman shepherd",
    "landlord tenant",
    "buyer seller",
    "employer employee",
    "insurer insured",
    "lender borrower",
    "teacher pupil",
    "dog cat horse cow sheep goat pig hen",
    "sheep goats cattle horses pigs",
    "left right",
    "telephone mail letter fax",
    "square round triangular rectangular oval",
    "liquid solid gas",
    "physics chemistry biology mathematics history geography music art",
    "europe asia africa america australia antarctica",
    "king queen prince duke bishop abbot mayor governor president minister",
    "roof wall floor ceiling door window",
    "baltic atlantic pacific",
    "nitrogen oxygen hydrogen carbon helium chlorine sulphur",
    "liver kidney heart lung stomach brain",
];

/// Groups of words that say the same, of which the first stands for all.
const ALIKE: &[&str] = &[
    "close shut",
    "begin start commence",
    "end finish terminate conclude cease",
    "buy purchase acquire",
    "forbid prohibit ban bar disallow",
    "allow permit admit",
    "fee charge cost price",
    "large big great",
    "small little",
    "ill sick",
    "help assist aid",
    "keep retain preserve maintain",
    "need require necessary",
    "found establish",
    "build construct erect",
    "send dispatch ship",
    "leave depart",
    "arrive reach come",
    "destroy ruin wreck",
    "repair mend fix",
    "choose select pick",
    "annual yearly annually",
    "consent permission approval agreement authorisation",
    "stay remain",
    "fast quick rapid",
    "show display",
    "happen occur",
    "get receive obtain",
    "use employ",
    "make produce manufacture",
    "seller vendor",
    "doctor physician",
    "car vehicle",
    "house home dwelling",
    "grown adult",
    "pay settle",
    "tell inform notify",
    "deliver supply provide",
    "hurt harm damage injure",
    "die perish",
    "main chief principal",
    "cause reason",
    "fall drop decline sink",
    "rise climb increase",
    "work function operate",
    "throw cast",
    "empty drain",
    "afraid scared",
    "hold contain",
    "volume book",
    "speak talk",
    "erase delete remove",
    "seldom rarely",
    "usually mostly generally normally",
    "freeze frost",
    "store archive",
    "guest visitor",
    "customer client",
    "passenger traveller",
    "employee staff worker",
    "rubbish waste refuse garbage",
    "sea ocean",
    "road street",
    "forest wood",
    "stone rock",
    "ill unwell",
    "attempt try",
    "answer reply",
    "fine penalty",
    "holiday vacation leave",
    "flight journey trip",
    "blaze fire",
    "child kid",
    "coach bus",
    "bicycle bike",
    "next following subsequent",
    "previous earlier former prior",
    "order command instruct tell",
    "complain object protest",
    "replace exchange substitute",
    "whole entire complete",
    "enough sufficient",
    "rotten decayed",
    "wage salary pay",
    "boss manager head",
    "buyer customer",
    "lend loan",
    "extend prolong lengthen",
    "borrow loan",
    "photograph picture photo image",
    "film movie",
    "café cafeteria",
    "admission entry entrance",
    "open accessible",
    "expensive costly dear",
    "cheap inexpensive",
    "quick swift",
    "slow sluggish",
    "teach instruct",
    "learn study",
    "pupil student",
    "participant attendee",
    "enrol register",
    "cancel revoke",
    "postpone delay defer",
    "elect vote",
    "rule regulation",
    "law statute",
    "change alter modify amend",
    "check inspect examine",
    "find discover detect",
    "lose forfeit",
    "win victory",
    "beat defeat",
    "finish end",
    "hurt injure wound",
    "explode explosion blast",
    "quake earthquake tremor",
    "gust wind",
    "cold chilly",
    "rain shower",
    "grow rise swell",
    "double twice",
    "cut chop slice",
    "stir mix",
    "wash clean",
    "hunt chase",
    "part share portion",
    "people person",
    "scientist researcher expert",
    "consider think regard believe",
    "say state tell",
    "ask request",
    "save rescue",
    "club association society",
    "former previous",
    "boundary border",
    "court judge tribunal",
    "consent agree",
    "sensor probe",
    "data reading record",
    "reset restart",
    "network net",
    "password code",
    "pin needle",
    "hole opening",
    "slot opening",
    "tray drawer",
    "sheet paper",
    "engine motor",
    "boat ship vessel craft",
    "skipper captain",
    "lock sluice",
    "chamber room",
    "vote ballot",
    "committee board",
    "fee subscription dues",
    "late overdue",
    "token coin",
    "caretaker janitor",
    "basket hamper",
    "rug carpet",
    "crossing passage",
    "pier quay jetty dock wharf",
    "wind gale",
    "erupt eruption",
    "recent latest last",
    "frequent often",
    "rare seldom",
];

/// Words of degree, the strongest first: all, most, some, few, none.
pub(super) const DEGREES: [&str; 5] = [
    "all every each always everybody everyone everything everywhere entire entirely whole wholly any completely",
    "most mostly usually majority generally typically normally often mainly largely predominantly",
    "some several sometimes partly occasionally various many partially",
    "few rarely seldom hardly scarcely little",
    "none nobody nothing",
];
/// Words that lay a duty on somebody.
pub(super) const DUTIES: &str =
    "require required requires necessary compulsory obligatory mandatory obliged need needs needed";
/// Words that allow.
pub(super) const PERMISSIONS: &str =
    "may can allowed permitted allow permit permits allows could free welcome entitled able might";
/// Words that advise.
pub(super) const ADVICE: &str = "should ought recommended advised advise recommend recommends advisable";
/// Words that begin a condition or an exception.
pub(super) const CONDITIONS: &str =
    "if unless except only provided until excluding when where wenn falls außer nur si sauf seulement salvo solo se";
/// Words of doubt and of belief.
pub(super) const HEDGES: &str = "may might could possibly perhaps probably likely believe believes believed think thinks expected expects estimated \
    estimate estimates reported reportedly suspected suspect seems seem appears appear presumably assumed planned proposed suggests suggest forecast possible probable consider considers considered";
/// Words that begin a clause.
pub(super) const CLAUSES: &str = "but although though while whereas unless except because since which who if when until so whose where aber obwohl wenn weil";
/// Words before an amount that is not exact.
pub(super) const ABOUT: &str =
    "about around roughly some nearly almost approximately approx circa over under more less least most up";

fn pairs() -> &'static HashMap<String, Vec<String>> {
    static PAIRS: LazyLock<HashMap<String, Vec<String>>> = LazyLock::new(|| {
        let mut pairs: HashMap<String, Vec<String>> = HashMap::new();
        for pair in OPPOSITES.split(';') {
            let mut words = pair.split_whitespace();
            let (Some(a), Some(b)) = (words.next(), words.next()) else { continue };
            for (one, other) in [(a, b), (b, a)] {
                for form in forms(one) {
                    pairs.entry(form).or_default().extend(forms(other));
                }
                // Comparatives and adverbs of opposites are opposites: warmer and cooler.
                for ending in ["er", "est", "ly"] {
                    let with = |word: &str| {
                        stem(&format!("{}{ending}", if ending == "ly" { word } else { word.trim_end_matches('e') }))
                    };
                    pairs.entry(with(one)).or_default().push(with(other));
                }
            }
        }
        pairs
    });
    &PAIRS
}

/// Returns the terms of a word, those of its irregular forms included.
fn forms(word: &str) -> Vec<String> {
    let mut forms = vec![stem(word)];
    forms.extend(irregular_terms(word));
    forms.dedup();
    forms
}

/// Returns `true` for two terms that mean opposite things.
pub(super) fn are_opposites(a: &str, b: &str) -> bool {
    let negates = |a: &str, b: &str| {
        ["un", "in", "im", "ir", "non", "dis"].iter().any(|prefix| a.strip_prefix(prefix) == Some(b))
    };
    a != b && (negates(a, b) || negates(b, a) || are_listed_opposites(a, b) || relation(a, b) == Relation::Opposite)
}

fn are_listed_opposites(a: &str, b: &str) -> bool {
    pairs().get(a).is_some_and(|others| others.iter().any(|other| other == b))
}

/// Returns the sets of mutually exclusive words that a term is in.
pub(super) fn exclusive_sets(term: &str) -> &'static [usize] {
    static SETS: LazyLock<HashMap<String, Vec<usize>>> = LazyLock::new(|| by_term(EXCLUSIVE));
    SETS.get(term).map_or(&[], Vec::as_slice)
}

/// Returns `true` for two terms that say the same.
pub(super) fn are_alike(a: &str, b: &str) -> bool {
    static GROUPS: LazyLock<HashMap<String, Vec<usize>>> = LazyLock::new(|| by_term(ALIKE));
    let (Some(a), Some(b)) = (GROUPS.get(a), GROUPS.get(b)) else { return false };
    a.iter().any(|group| b.contains(group))
}

fn by_term(lists: &[&str]) -> HashMap<String, Vec<usize>> {
    let mut sets: HashMap<String, Vec<usize>> = HashMap::new();
    for (at, list) in lists.iter().enumerate() {
        for term in list.split_whitespace().flat_map(forms) {
            let known = sets.entry(term).or_default();
            if known.last() != Some(&at) {
                known.push(at);
            }
        }
    }
    sets
}
