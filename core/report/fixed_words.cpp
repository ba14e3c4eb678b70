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
