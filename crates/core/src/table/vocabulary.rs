//! The words by which a question asks for a computation, in English, German, French, Spanish and Italian.

use crate::quantity::Dimension;

/// What is compared when rows are compared.
#[derive(Debug)]
pub(super) struct Concept {
    /// Adjectives that mean more of it, in their forms.
    pub more: &'static str,
    /// Adjectives that mean less of it.
    pub less: &'static str,
    /// Words in the name of a column that has it.
    pub columns: &'static str,
    /// Dimensions that it has.
    pub dimensions: &'static [Dimension],
    /// Whether it is about dates.
    pub dates: bool,
}

/// Superlatives by the more or the less of any column.
pub(super) const MOST: &str = "most greatest largest biggest highest maximum maximal max top meisten meiste größte größten größter größtes höchste \
    höchsten höchster höchstes maximale maximalen mayor máximo máxima maggiore massimo massima";
pub(super) const LEAST: &str = "least fewest smallest lowest minimum minimal min wenigsten wenigste kleinste kleinsten kleinster kleinstes niedrigste \
    niedrigsten geringste geringsten minimale menor mínimo mínima minore minimo minima";
/// Words before an adjective that make it a superlative or comparative.
pub(super) const PLUS: &str = "most more plus más più";
pub(super) const MINUS: &str = "least less moins menos meno";

pub(super) const CONCEPTS: &[Concept] = &[
    Concept {
        more: "long longer longest farthest furthest lang lange langen länger längste längsten längster längstes longue longs longues largo larga \
            largos largas lungo lunga lunghi lunghe",
        less: "short shorter shortest nearest kurz kurze kürzer kürzeste kürzesten kürzester court courte courts courtes corto corta cortos cortas corti corte",
        columns: "length long distance duration länge strecke entfernung dauer longueur distance durée longitud distancia duración lunghezza distanza durata",
        dimensions: &[Dimension::Length, Dimension::Duration],
        dates: false,
    },
    Concept {
        more: "deep deeper deepest tief tiefe tiefer tiefste tiefsten tiefster profond profonde profonds profondes profundo profunda profundos profundas profondo \
            profonda profondi",
        less: "shallow shallower shallowest flach flache flacher flachste flachsten",
        columns: "depth draught draft deep tiefe tiefgang profondeur tirant profundidad calado profondità pescaggio",
        dimensions: &[Dimension::Length],
        dates: false,
    },
    Concept {
        more: "high higher tall taller tallest hoch hohe höher höchste haut haute hauts hautes alto alta altos altas alti alte",
        less: "low lower niedrig niedriger bas basse bajo baja basso bassa",
        columns: "height high höhe hauteur altura altezza",
        dimensions: &[Dimension::Length],
        dates: false,
    },
    Concept {
        more: "wide wider widest broad broader broadest breit breite breiter breiteste breitesten large larges ancho ancha anchos largo",
        less: "narrow narrower narrowest schmal schmaler schmalste schmalsten étroit étroite estrecho estrecha stretto stretta",
        columns: "width breadth beam wide breite largeur anchura ancho larghezza",
        dimensions: &[Dimension::Length],
        dates: false,
    },
    Concept {
        more: "heavy heavier heaviest schwer schwere schwerer schwerste schwersten lourd lourde lourds lourdes pesado pesada pesados pesante pesanti",
        less: "light lighter lightest leicht leichte leichter leichteste leichtesten léger légère ligero ligera leggero leggera",
        columns: "weight mass load tonnage gewicht masse poids peso carga carico",
        dimensions: &[Dimension::Mass],
        dates: false,
    },
    Concept {
        more: "fast faster fastest quick quicker quickest schnell schnelle schneller schnellste schnellsten rapide rapides rápido rápida rápidos veloce veloci",
        less: "slow slower slowest langsam langsamer langsamste langsamsten lent lente lento lenta lenti",
        columns: "speed pace geschwindigkeit vitesse velocidad velocità",
        dimensions: &[Dimension::Speed],
        dates: false,
    },
    Concept {
        more: "expensive dear dearer dearest costly costlier costliest teuer teurer teuerste teuersten teure cher chère chers chères caro cara caros caras cari care",
        less: "cheap cheaper cheapest billig billiger billigste billigsten günstig günstiger günstigste günstigsten barato barata baratos baratas economico",
        columns: "price cost costs amount charge charges fee fees rate due dues tariff sum preis kosten betrag gebühr prix coût montant tarif precio coste importe \
            tarifa prezzo costo importo tariffa",
        dimensions: &[],
        dates: false,
    },
    Concept {
        more: "new newer newest late later latest recent neu neue neuer neueste neuesten spät später späteste spätesten jüngste récent récente récents nuevo \
            nueva nuevos reciente recientes nuovo nuova nuovi recente recenti",
        less: "old older oldest early earlier earliest alt alte älter älteste ältesten früh früher früheste frühesten vieux ancien ancienne anciens viejo vieja \
            antiguo antigua vecchio vecchia antico antica",
        columns: "date year day built datum jahr année an fecha año data anno survey",
        dimensions: &[],
        dates: true,
    },
    Concept {
        more: "large larger big bigger great greater groß große größer grand grande grands grandes gran grandi",
        less: "small smaller little klein kleine kleiner petit petite petits petites pequeño pequeña piccolo piccola",
        columns: "size area capacity volume größe fläche taille surface capacité tamaño superficie capacidad dimensione capacità",
        dimensions: &[Dimension::Area, Dimension::Volume],
        dates: false,
    },
];

/// Words for a sum.
pub(super) const SUM: &str = "total altogether together sum insgesamt zusammen summe gesamt somme ensemble suma conjunto somma totale complessivo";
/// Phrases for a sum.
pub(super) const SUM_PHRASES: &[&str] = &["in all", "add up", "au total", "en total", "in totale"];
pub(super) const MEAN: &str = "mean average averaged durchschnitt durchschnittlich durchschnittliche mittlere mittel moyenne moyen promedio media medio";
pub(super) const DIFFERENCE: &str = "difference differ differs unterschied differenz unterscheiden différence diffère diferencia difieren differenza differiscono";
/// Words that begin a question for a number.
pub(super) const HOW_MANY: &[&str] = &[
    "how many",
    "wie viele",
    "combien de",
    "combien d",
    "cuántos",
    "cuántas",
    "quanti",
    "quante",
    "number of",
    "anzahl",
];
/// Words before a number that is only near.
pub(super) const ABOUT: &[&str] = &[
    "about",
    "around",
    "roughly",
    "approximately",
    "nearly",
    "etwa",
    "ungefähr",
    "rund",
    "environ",
    "alrededor de",
    "unos",
    "circa",
];
pub(super) const BETWEEN: &[&str] = &["between", "from", "zwischen", "entre", "tra", "fra", "von", "de"];
pub(super) const OVER: &[&str] = &[
    "more than",
    "over",
    "above",
    "longer than",
    "deeper than",
    "greater than",
    "higher than",
    "larger than",
    "exceeding",
    "mehr als",
    "über",
    "länger als",
    "plus de",
    "más de",
    "più di",
    "after",
    "nach",
];
pub(super) const UNDER: &[&str] = &[
    "less than",
    "under",
    "below",
    "fewer than",
    "shorter than",
    "smaller than",
    "lower than",
    "weniger als",
    "unter",
    "kürzer als",
    "moins de",
    "menos de",
    "meno di",
    "before",
    "vor",
];
pub(super) const AT_LEAST: &[&str] =
    &["at least", "no less than", "mindestens", "au moins", "al menos", "por lo menos", "almeno"];
pub(super) const AT_MOST: &[&str] =
    &["at most", "up to", "no more than", "höchstens", "bis zu", "au plus", "como máximo", "al massimo"];
/// Words before what there is none of.
pub(super) const NONE: &str = "no without lack lacks kein keine keinen ohne sans sin senza";
/// Words that ask which rows.
pub(super) const WHICH: &str = "which what welche welcher welches welchen quel quelle quels quelles qué cuál cuáles que quale quali che list name where";
pub(super) const THAN: &str = "than als que di del della dello";
/// Words that ask for an order.
pub(super) const ORDER: &[&str] = &[
    "in order of",
    "ordered by",
    "sorted by",
    "order by",
    "geordnet nach",
    "sortiert nach",
    "par ordre de",
    "por orden de",
    "in ordine di",
];
/// Numbers in words, from one on.
pub(super) const NUMBERS: &[&str] = &[
    "one",
    "two zwei deux dos due",
    "three drei trois tres tre",
    "four vier quatre cuatro quattro",
    "five fünf cinq cinco cinque",
    "six sechs seis sei",
    "seven sieben sept siete sette",
    "eight acht huit ocho otto",
    "nine neun neuf nueve nove",
    "ten zehn dix diez dieci",
];
