#include "core/report/fixed_words.h"

#include <algorithm>
#include <array>

namespace rapporto {
namespace {

struct Word {
    const char* en;
    const char* de;
    const char* fr;
    const char* es;
    const char* it;
};

const std::array kWords = {
    Word{"Table", "Tabelle", "Tabl.", "Tabla", "Tabella"},
    Word{"Figure", "Abbildung", "Figure", "Figura", "Figura"},
    Word{"Rows", "Zeilen", "Lignes", "Filas", "Righe"},
    Word{"Constant", "Konstante", "Constante", "Constante", "Costante"},
    Word{"yes", "ja", "oui", "sí", "sì"},
    Word{"no", "nein", "non", "no", "no"},
    Word{"against", "gegenüber", "par rapport à", "frente a", "rispetto a"},
    Word{"base", "Basis", "base", "base", "base"},
    Word{"held fixed", "festgehalten", "maintenu fixe", "mantenido fijo", "tenuto fisso"},
    Word{"Effects in", "Effekte in", "Effets en", "Efectos en", "Effetti in"},
    Word{"Adjusted R²", "Korrigiertes R²", "R² ajusté", "R² ajustado", "R² corretto"},
    Word{"R² within", "R² innerhalb", "R² intra", "R² intra", "R² entro"},
    Word{"Groups", "Gruppen", "Groupes", "Grupos", "Gruppi"},
    Word{"Between groups", "Zwischen Gruppen", "Entre groupes", "Entre grupos", "Tra gruppi"},
    Word{"Log-likelihood", "Log-Likelihood", "Log-vraisemblance", "Log-verosimilitud",
         "Log-verosimiglianza"},
    Word{"Outcome", "Zielgröße", "Variable expliquée", "Variable explicada", "Variabile spiegata"},
    Word{"Errors", "Fehler", "Erreurs", "Errores", "Errori"},
    Word{"Standard errors in parentheses", "Standardfehler in Klammern",
         "Écarts-types entre parenthèses", "Errores estándar entre paréntesis",
         "Errori standard tra parentesi"},
    Word{"t in parentheses", "t in Klammern", "t entre parenthèses", "t entre paréntesis",
         "t tra parentesi"},
    Word{"p in parentheses", "p in Klammern", "p entre parenthèses", "p entre paréntesis",
         "p tra parentesi"},
    Word{"intervals in brackets", "Intervalle in eckigen Klammern", "intervalles entre crochets",
         "intervalos entre corchetes", "intervalli tra parentesi quadre"},
    Word{"n", "n", "n", "n", "n"},
    Word{"missing", "fehlend", "manquants", "faltantes", "mancanti"},
    Word{"mean", "Mittel", "moyenne", "media", "media"},
    Word{"sd", "Std.abw.", "écart-type", "desv. est.", "dev. std."},
    Word{"least", "kleinster", "minimum", "mínimo", "minimo"},
    Word{"median", "Median", "médiane", "mediana", "mediana"},
    Word{"largest", "größter", "maximum", "máximo", "massimo"},
    Word{"share", "Anteil", "part", "proporción", "quota"},
    Word{"all", "alle", "tous", "todos", "tutti"},
    Word{"difference", "Differenz", "différence", "diferencia", "differenza"},
    Word{"effect", "Effekt", "effet", "efecto", "effetto"},
    Word{"interval", "Intervall", "intervalle", "intervalo", "intervallo"},
    Word{"std. error", "Std.fehler", "erreur type", "error est.", "err. std."},
    Word{"prediction", "Vorhersage", "prédiction", "predicción", "previsione"},
    Word{"lower end", "unteres Ende", "extrémité inférieure", "extremo inferior",
         "estremo inferiore"},
    Word{"upper end", "oberes Ende", "extrémité supérieure", "extremo superior",
         "estremo superiore"},
    Word{"one row", "eine Zeile", "une ligne", "una fila", "una riga"},
    Word{"test", "Test", "test", "prueba", "test"},
    Word{"statement", "Aussage", "énoncé", "enunciado", "enunciato"},
    Word{"Methods", "Methoden", "Méthodes", "Métodos", "Metodi"},
    Word{"References", "Literatur", "Références", "Referencias", "Riferimenti bibliografici"},
    Word{"What was done", "Was getan wurde", "Ce qui a été fait", "Lo que se hizo",
         "Che cosa è stato fatto"},
    Word{"to", "bis", "à", "a", "a"},
    Word{"at", "bei", "à", "al", "al"},
    Word{"t or F", "t oder F", "t ou F", "t o F", "t o F"},
    Word{"question", "Frage", "question", "pregunta", "domanda"},
    Word{"assumption", "Annahme", "hypothèse", "supuesto", "ipotesi"},
    Word{"evidence", "Befund", "constat", "evidencia", "riscontro"},
    Word{"what was done", "was getan wurde", "ce qui a été fait", "lo que se hizo",
         "che cosa è stato fatto"},
    Word{"nothing against it", "nichts spricht dagegen", "rien ne s’y oppose", "nada en contra",
         "nulla in contrario"},
    Word{"open", "offen", "ouvert", "abierto", "aperto"},
    Word{"the rest open", "der Rest offen", "le reste ouvert", "el resto abierto",
         "il resto aperto"},
    Word{"variable", "Variable", "variable", "variable", "variabile"},
    Word{"what it is", "was sie ist", "ce qu’elle est", "qué es", "che cosa è"},
    Word{"values", "Werte", "valeurs", "valores", "valori"},
    Word{"standardised", "standardisiert", "standardisé", "estandarizado", "standardizzato"},
    Word{"direct", "direkt", "direct", "directo", "diretto"},
    Word{"total", "gesamt", "total", "total", "totale"},
    Word{"through", "über", "par", "por", "per"},
    Word{"through all ways", "über alle Wege", "par toutes les voies", "por todas las vías",
         "per tutte le vie"},
    Word{"less that of the first group", "weniger den der ersten Gruppe",
         "moins celui du premier groupe", "menos el del primer grupo",
         "meno quello del primo gruppo"},
    Word{"turns at", "wendet bei", "se retourne à", "cambia en", "si inverte a"},
    Word{"set", "Menge", "ensemble", "conjunto", "insieme"},
    Word{"kind", "Art", "type", "tipo", "tipo"},
    Word{"rows below", "Zeilen darunter", "lignes en dessous", "filas por debajo",
         "righe al di sotto"},
    Word{"the whole line", "die ganze Gerade", "toute la droite", "toda la recta",
         "tutta la retta"},
    Word{"all but", "alles außer", "tout sauf", "todo menos", "tutto tranne"},
    Word{"above", "über", "au-dessus de", "por encima de", "sopra"},
    Word{"below", "unter", "en dessous de", "por debajo de", "sotto"},
    Word{"peak", "Gipfel", "sommet", "máximo", "massimo"},
    Word{"trough", "Tal", "creux", "mínimo", "minimo"},
    Word{"as strong as", "so stark wie", "aussi fort que", "tan fuerte como", "forte come"},
    Word{"times", "mal", "fois", "veces", "volte"},
    Word{"share of", "Anteil an", "part de", "proporción de", "quota di"},
    Word{"share of the outcome", "Anteil an der Zielgröße", "part de la variable expliquée",
         "proporción de la variable explicada", "quota della variabile spiegata"},
    Word{"Assumptions, their evidence and what was done",
         "Annahmen, was für sie spricht und was getan wurde",
         "Hypothèses, constats et ce qui a été fait", "Supuestos, evidencia y lo que se hizo",
         "Ipotesi, riscontri e che cosa è stato fatto"},
    Word{"The variables", "Die Variablen", "Les variables", "Las variables", "Le variabili"},
    Word{"The variables by", "Die Variablen nach", "Les variables selon", "Las variables según",
         "Le variabili per"},
    Word{"Correlations", "Korrelationen", "Corrélations", "Correlaciones", "Correlazioni"},
    Word{"Codebook of what is used", "Codebuch des Verwendeten",
         "Dictionnaire des variables employées", "Libro de códigos de lo utilizado",
         "Descrizione delle variabili usate"},
    Word{"Is the shape right?", "Stimmt die Form?", "La forme est-elle juste ?",
         "¿Es correcta la forma?", "La forma è giusta?"},
    Word{"Is the spread even?", "Ist die Streuung gleich?", "La dispersion est-elle constante ?",
         "¿Es constante la dispersión?", "La dispersione è costante?"},
    Word{"Are errors unrelated?", "Sind die Fehler unabhängig?",
         "Les erreurs sont-elles indépendantes ?", "¿Son independientes los errores?",
         "Gli errori sono indipendenti?"},
    Word{"Are errors normal enough?", "Sind die Fehler hinreichend normal?",
         "Les erreurs sont-elles assez normales ?", "¿Son los errores bastante normales?",
         "Gli errori sono abbastanza normali?"},
    Word{"Do a few rows decide?", "Entscheiden wenige Zeilen?", "Quelques lignes décident-elles ?",
         "¿Deciden unas pocas filas?", "Poche righe decidono?"},
    Word{"Do the terms overlap?", "Überschneiden sich die Terme?", "Les termes se recoupent-ils ?",
         "¿Se solapan los términos?", "I termini si sovrappongono?"},
    Word{"Is it stable?", "Ist es stabil?", "Est-ce stable ?", "¿Es estable?", "È stabile?"},
    Word{"Can the cause be trusted?", "Ist der Ursache zu trauen?", "Peut-on se fier à la cause ?",
         "¿Se puede confiar en la causa?", "Ci si può fidare della causa?"},
    Word{"Do the paths hold?", "Halten die Pfade?", "Les chemins tiennent-ils ?",
         "¿Se sostienen los caminos?", "I percorsi reggono?"},
    Word{"Does the panel choice hold?", "Hält die Wahl des Panels?", "Le choix du panel tient-il ?",
         "¿Se sostiene la elección de panel?", "La scelta del panel regge?"},
    Word{"Does the count model fit?", "Passt das Zählmodell?",
         "Le modèle de comptage convient-il ?", "¿Se ajusta el modelo de recuento?",
         "Il modello di conteggio è adatto?"},
    Word{"Does the yes–no or ordered model fit?", "Passt das Ja–Nein- oder Ordnungsmodell?",
         "Le modèle oui–non ou ordonné convient-il ?", "¿Se ajusta el modelo sí–no u ordenado?",
         "Il modello sì–no o ordinato è adatto?"},
    Word{"Do they only trend together?", "Haben sie nur den Trend gemeinsam?",
         "N’ont-ils que la tendance en commun ?", "¿Solo comparten la tendencia?",
         "Hanno in comune solo la tendenza?"},
    Word{"Do the groups stand as they should?", "Stehen die Gruppen, wie sie sollten?",
         "Les groupes sont-ils comme ils devraient ?", "¿Están los grupos como deberían?",
         "I gruppi sono come dovrebbero?"},
    Word{"Are the data what they seem?", "Sind die Daten, was sie scheinen?",
         "Les données sont-elles ce qu’elles semblent ?", "¿Son los datos lo que parecen?",
         "I dati sono ciò che sembrano?"},
};

}  // namespace

const std::vector<std::string>& reportLanguages() {
    static const std::vector<std::string> kLanguages = {"en", "de", "fr", "es", "it"};
    return kLanguages;
}

std::string fixedWord(const std::string& english, const std::string& language) {
    const auto* found = std::find_if(kWords.begin(), kWords.end(),
                                     [&](const Word& word) { return english == word.en; });
    if (found == kWords.end()) {
        return english;
    }
    return language == "de"   ? found->de
           : language == "fr" ? found->fr
           : language == "es" ? found->es
           : language == "it" ? found->it
                              : english;
}

}  // namespace rapporto
