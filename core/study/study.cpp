#include "core/study/study.h"

#include "core/base/clock.h"
#include "core/base/format.h"
#include "core/base/markup.h"
#include "core/io/table_file.h"
#include "core/model/question_texts.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Study);
RAPPORTO_COMPILED_HERE(Source);

namespace {

template <class T, class Name>
void putByName(std::vector<T>& list, const T& value, Name name) {
    const auto at = std::find_if(list.begin(), list.end(),
                                 [&](const T& one) { return name(one) == name(value); });
    if (at == list.end()) {
        list.push_back(value);
    } else {
        *at = value;
    }
}

/// Visits every expression of the study with where it stands, in words.
template <class F>
void eachText(Study& study, F visit) {
    for (Derived& d : study.derived) {
        visit(d.expression, "the derived variable " + d.name);
    }
    for (ShapeStep& step : study.shape) {
        const std::string where = shapeText(step);
        if (auto* collapse = std::get_if<CollapseStep>(&step)) {
            for (std::string& name : collapse->by) {
                visit(name, where);
            }
            for (Derived& column : collapse->columns) {
                visit(column.expression, where);
            }
        } else if (auto* join = std::get_if<JoinStep>(&step)) {
            for (KeyPair& pair : join->by) {
                visit(pair.here, where);
            }
        }
    }
    visit(study.sample.where, "the sample rule");
    for (std::string& one : study.imputation.with) {
        visit(one, "what is filled in");
    }
    for (TermSet& set : study.sets) {
        for (std::string& member : set.members) {
            visit(member, "the set " + set.name);
        }
    }
    for (Question& q : study.questions) {
        const std::string where = "the question " + (q.title.empty() ? q.id : q.title);
        eachText(q, [&](std::string& text) { visit(text, where); });
    }
}

/// Visits every name that the requests of a question hold: plain names, never expressions.
template <class F>
void eachAskedName(Question& q, F visit) {
    const auto visitKeys = [&](ScenarioValues& at) {
        ScenarioValues kept;
        for (const auto& [key, value] : at) {
            std::string name = key;
            visit(name);
            kept.emplace(std::move(name), value);
        }
        at = std::move(kept);
    };
    for (EffectRequest& effect : q.effects) {
        visit(effect.of);
        visit(effect.over);
        visitKeys(effect.at);
    }
    for (PredictRequest& predict : q.predict) {
        visitKeys(predict.at);
    }
    for (CheckRequest& check : q.checks) {
        visit(check.by);
    }
    if (q.leftOut) {
        visit(q.leftOut->of);
        for (Term& benchmark : q.leftOut->benchmarks) {
            for (std::string& part : benchmark.parts) {
                if (benchmark.kind != Term::Kind::Set) {
                    visit(part);
                }
            }
        }
    }
    if (q.byLot) {
        visit(q.byLot->of);
    }
    if (q.worstCases) {
        visit(q.worstCases->of);
    }
    for (PlannedRequest& planned : q.planned) {
        visit(planned.of);
    }
    if (q.forecast) {
        std::map<std::string, GoesOn> kept;
        for (const auto& [key, goes] : q.forecast->terms) {
            std::string name = key;
            visit(name);
            kept.emplace(std::move(name), goes);
        }
        q.forecast->terms = std::move(kept);
    }
    eachNodeName(q.trace, visit);
}

/// The name of a coefficient after a rename: an equation may stand before the terms, a level behind
/// each, "to cart: zone=Ridge × age". Neither an equation nor a level is a variable.
std::string renamedCoefficient(const std::string& name, const std::string& from,
                               const std::string& to) {
    const std::string times = " × ";
    const std::size_t colon = name.find(": ");
    std::size_t at = colon == std::string::npos ? 0 : colon + 2;
    std::string out = name.substr(0, at);
    while (true) {
        const std::size_t end = std::min(name.find(times, at), name.size());
        const std::string part = name.substr(at, end - at);
        const std::string term = part.substr(0, part.find('='));
        out += (term == from ? to : renamedIn(term, from, to)) + part.substr(term.size());
        if (end == name.size()) {
            return out;
        }
        out += times;
        at = end + times.size();
    }
}

/// A statement about effects after a rename. Unchanged: it does not speak of `from`.
std::string renamedStatement(std::string text, const std::string& from, const std::string& to) {
    if (const auto parsed = Expression::parse(text)) {
        for (const std::string& name : parsed->names()) {
            const std::string now = renamedCoefficient(name, from, to);
            text = now == name ? text : renamedIn(text, name, now);
        }
    }
    return text;
}

/// Names, not expressions, that the layout and the survey design hold.
std::vector<std::string*> roles(Study& study) {
    std::vector<std::string*> out = {&study.layout.unit,    &study.layout.time,
                                     &study.survey.weight,  &study.survey.strata,
                                     &study.survey.cluster, &study.survey.population};
    for (std::string& replicate : study.survey.replicates) {
        out.push_back(&replicate);
    }
    for (KnownTotal& target : study.survey.targets) {
        out.push_back(&target.variable);
    }
    for (std::string& name : study.imputation.variables) {
        out.push_back(&name);
    }
    return out;
}

/// The steps after which a row has another number than in the source.
std::vector<ShapeStep> renumbering(const std::vector<ShapeStep>& steps) {
    std::vector<ShapeStep> out;
    std::copy_if(steps.begin(), steps.end(), std::back_inserter(out), [](const ShapeStep& step) {
        return !std::holds_alternative<JoinStep>(step) && !std::holds_alternative<AppendStep>(step);
    });
    return out;
}

/// Applies one kind of change to a copy of the study.
struct Applier {
    Study& study;

    Result<void> operator()(const PutQuestion& put) {
        Question question = put.question;
        if (question.id.empty()) {
            question.id = freshQuestionId(study);
        }
        putByName(study.questions, question, [](const Question& q) { return q.id; });
        return {};
    }

    Result<void> operator()(const RemoveQuestion& remove) {
        if (study.find(remove.id) == nullptr) {
            return refuse(ErrorCode::UnknownName, "there is no question ‘" + remove.id + "’");
        }
        std::erase_if(study.questions, [&](const Question& q) { return q.id == remove.id; });
        // The first variant takes the place of a removed original.
        std::string heir;
        for (Question& q : study.questions) {
            if (q.variantOf == remove.id) {
                q.variantOf = heir;
                heir = heir.empty() ? q.id : heir;
            }
        }
        for (ReportItem& item : study.report) {
            std::erase(item.questions, remove.id);
            for (TableLook::Panel& panel : item.table.panels) {
                std::erase(panel.questions, remove.id);
            }
        }
        return {};
    }

    Result<void> operator()(const MakeLead& lead) {
        if (study.find(lead.id) == nullptr) {
            return refuse(ErrorCode::UnknownName, "there is no question ‘" + lead.id + "’");
        }
        for (Question& q : study.questions) {
            q.lead = q.id == lead.id;
        }
        return {};
    }

    Result<void> operator()(const PutDerived& put) {
        if (put.derived.name.empty()) {
            return refuse(ErrorCode::BadSetting, "a derived variable needs a name");
        }
        if (const auto parsed = Expression::parse(put.derived.expression); !parsed) {
            return tl::make_unexpected(parsed.error());
        }
        putByName(study.derived, put.derived, [](const Derived& d) { return d.name; });
        return {};
    }

    Result<void> operator()(const RemoveDerived& remove) {
        std::erase_if(study.derived, [&](const Derived& d) { return d.name == remove.name; });
        return {};
    }

    Result<void> operator()(const PutKept& put) {
        if (put.column.name.empty() || put.column.values == nullptr) {
            return refuse(ErrorCode::BadSetting, "a kept column needs a name and values");
        }
        putByName(study.kept, put.column, [](const KeptColumn& c) { return c.name; });
        return {};
    }

    Result<void> operator()(const RemoveKept& remove) {
        std::erase_if(study.kept, [&](const KeptColumn& c) { return c.name == remove.name; });
        return {};
    }

    Result<void> operator()(const PutVariable& put) {
        const VariableEntry& entry = put.entry;
        const auto at = std::find_if(study.variables.begin(), study.variables.end(),
                                     [&](const VariableEntry& e) { return e.name == entry.name; });
        if (at == study.variables.end()) {
            study.variables.push_back(entry);
            return {};
        }
        const auto merge = [](auto& into, const auto& from) { into = from ? from : into; };
        merge(at->label, entry.label);
        merge(at->unit, entry.unit);
        merge(at->note, entry.note);
        merge(at->measure, entry.measure);
        merge(at->missing, entry.missing);
        merge(at->missingRanges, entry.missingRanges);
        merge(at->levels, entry.levels);
        merge(at->base, entry.base);
        merge(at->readAs, entry.readAs);
        return {};
    }

    Result<void> operator()(const PutQuestions& put) {
        for (const Question& question : put.questions) {
            if (auto done = (*this)(PutQuestion{question}); !done) {
                return done;
            }
        }
        return {};
    }

    Result<void> operator()(const PutVariables& put) {
        for (const VariableEntry& entry : put.entries) {
            if (auto done = (*this)(PutVariable{entry}); !done) {
                return done;
            }
        }
        return {};
    }

    Result<void> operator()(const RenameDerived& rename) {
        const auto named = [&](const std::string& name) {
            return std::find_if(study.derived.begin(), study.derived.end(),
                                [&](const Derived& d) { return d.name == name; });
        };
        const auto at = named(rename.from);
        if (at == study.derived.end()) {
            return refuse(ErrorCode::UnknownName,
                          "there is no derived variable ‘" + rename.from + "’");
        }
        if (rename.to.empty() || named(rename.to) != study.derived.end()) {
            return refuse(ErrorCode::BadSetting, rename.to.empty()
                                                     ? "a derived variable needs a name"
                                                     : "‘" + rename.to + "’ names another one");
        }
        at->name = rename.to;
        eachText(study, [&](std::string& text, const std::string& /*where*/) {
            text = text == rename.from ? quotedName(rename.to)
                                       : renamedIn(text, rename.from, rename.to);
        });
        for (Question& question : study.questions) {
            eachAskedName(question, [&](std::string& name) {
                name = name == rename.from ? rename.to : renamedIn(name, rename.from, rename.to);
            });
            for (std::string& statement : question.hypotheses) {
                statement = renamedStatement(std::move(statement), rename.from, rename.to);
            }
            if (auto place = question.trace.places.extract(rename.from)) {
                place.key() = rename.to;
                question.trace.places.insert(std::move(place));
            }
        }
        for (VariableEntry& entry : study.variables) {
            entry.name = entry.name == rename.from ? rename.to : entry.name;
        }
        for (std::string* role : roles(study)) {
            *role = *role == rename.from ? rename.to : *role;
        }
        if (auto way = study.imputation.by.extract(rename.from)) {
            way.key() = rename.to;
            study.imputation.by.insert(std::move(way));
        }
        for (PictureSpec& picture : study.desk.pictures) {
            std::replace(picture.of.begin(), picture.of.end(), rename.from, rename.to);
        }
        for (ReportItem& item : study.report) {
            renameIn(item, rename.from, rename.to);
        }
        return {};
    }

    /// What an item of the report names: variables, terms, fields of its text.
    static void renameIn(ReportItem& item, const std::string& from, const std::string& to) {
        const auto term = [&](std::string& text) {
            text = text == from ? quotedName(to) : renamedIn(text, from, to);
        };
        std::replace(item.variables.begin(), item.variables.end(), from, to);
        item.by = item.by == from ? to : item.by;
        if (item.picture) {
            std::replace(item.picture->of.begin(), item.picture->of.end(), from, to);
        }
        for (TableLook::Fold& fold : item.table.folds) {
            std::for_each(fold.terms.begin(), fold.terms.end(), term);
        }
        std::for_each(item.table.order.begin(), item.table.order.end(), term);
        for (TableLook::Heading& heading : item.table.headings) {
            term(heading.before);
        }
        item.text = replacedAll(item.text, " of " + from + " in ", " of " + to + " in ");
    }

    Result<void> operator()(const PutSet& put) {
        if (put.set.name.empty()) {
            return refuse(ErrorCode::BadSetting, "a set needs a name");
        }
        if (put.set.members.empty()) {
            std::erase_if(study.sets, [&](const TermSet& s) { return s.name == put.set.name; });
        } else {
            putByName(study.sets, put.set, [](const TermSet& s) { return s.name; });
        }
        return {};
    }

    Result<void> operator()(const RenameSet& rename) {
        const auto named = [&](const std::string& name) {
            return std::find_if(study.sets.begin(), study.sets.end(),
                                [&](const TermSet& s) { return s.name == name; });
        };
        if (named(rename.from) == study.sets.end()) {
            return refuse(ErrorCode::UnknownName, "there is no set ‘" + rename.from + "’");
        }
        if (rename.to.empty() || named(rename.to) != study.sets.end()) {
            return refuse(ErrorCode::BadSetting, rename.to.empty()
                                                     ? "a set needs a name"
                                                     : "‘" + rename.to + "’ names another set");
        }
        named(rename.from)->name = rename.to;
        for (Question& q : study.questions) {
            std::vector<std::vector<Term>*> lists = {&q.endogenous, &q.terms, &q.instruments,
                                                     &q.completeBy, &q.trace.holding};
            for (PathSpec& path : q.trace.paths) {
                lists.push_back(&path.from);
            }
            for (auto* terms : lists) {
                for (Term& term : *terms) {
                    if (term.kind == Term::Kind::Set && term.parts.front() == rename.from) {
                        term.parts.front() = rename.to;
                    }
                }
            }
        }
        return {};
    }

    Result<void> operator()(const SetSurvey& survey) {
        study.survey = survey.survey;
        return {};
    }

    Result<void> operator()(const SetImputation& set) {
        for (const std::string& text : set.imputation.with) {
            if (const auto parsed = Expression::parse(text); !parsed) {
                return tl::make_unexpected(parsed.error());
            }
        }
        study.imputation = set.imputation;
        return {};
    }

    Result<void> operator()(const SetRule& rule) {
        if (!rule.where.empty()) {
            if (const auto parsed = Expression::parse(rule.where); !parsed) {
                return tl::make_unexpected(parsed.error());
            }
        }
        study.sample.where = rule.where;
        return {};
    }

    Result<void> operator()(const SetRowsAside& aside) {
        for (const std::size_t row : aside.rows) {
            putByName(study.sample.setAside, SetAside{row, aside.reason},
                      [](const SetAside& s) { return s.row; });
        }
        std::sort(study.sample.setAside.begin(), study.sample.setAside.end(),
                  [](const SetAside& a, const SetAside& b) { return a.row < b.row; });
        return {};
    }

    Result<void> operator()(const TakeRowsBack& back) {
        std::erase_if(study.sample.setAside, [&](const SetAside& s) {
            return std::find(back.rows.begin(), back.rows.end(), s.row) != back.rows.end();
        });
        return {};
    }

    Result<void> operator()(const SetLayout& layout) {
        study.layout = layout.layout;
        return {};
    }

    Result<void> operator()(const SetTitle& title) {
        study.title = title.title;
        return {};
    }

    Result<void> operator()(const SetAlpha& alpha) {
        if (!(alpha.alpha > 0.0 && alpha.alpha < 1.0)) {
            return refuse(ErrorCode::BadSetting, "alpha lies between 0 and 1");
        }
        study.alpha = alpha.alpha;
        return {};
    }

    Result<void> operator()(const AcceptOddity& accept) {
        auto& all = study.sample.accepted;
        std::erase_if(all, [&](const AcceptedOddity& one) { return one.odd == accept.odd; });
        if (!accept.reason.empty()) {
            all.push_back({accept.odd, accept.reason});
        }
        return {};
    }

    Result<void> operator()(const SetReport& report) {
        study.report = report.items;
        return {};
    }

    Result<void> operator()(const SetReportStyle& style) {
        if (style.style.decimal == style.style.thousands) {
            return refuse(ErrorCode::BadSetting,
                          "the decimal mark and the mark of thousands cannot be the same", "report",
                          "Choose another one of them.");
        }
        study.reportStyle = style.style;
        return {};
    }

    Result<void> operator()(const SetSource& source) {
        study.source = source.source;
        return {};
    }

    Result<void> operator()(const SetShape& shape) {
        const bool byNumber = !study.sample.setAside.empty() ||
                              std::any_of(study.questions.begin(), study.questions.end(),
                                          [](const Question& q) { return !q.without.empty(); });
        if (byNumber && renumbering(shape.steps) != renumbering(study.shape)) {
            return refuse(ErrorCode::BadSetting,
                          "rows are set aside by their number, and this step numbers rows anew", "",
                          "Take them back first, or say by a rule which rows are out.");
        }
        study.shape = shape.steps;
        return {};
    }
};

}  // namespace

const Source* otherSource(const ShapeStep& step) {
    if (const auto* append = std::get_if<AppendStep>(&step)) {
        return &append->other;
    }
    const auto* join = std::get_if<JoinStep>(&step);
    return join == nullptr ? nullptr : &join->other;
}

Source* otherSource(ShapeStep& step) {
    return const_cast<Source*>(otherSource(std::as_const(step)));
}

std::string shapeText(const ShapeStep& step) {
    const auto file = [](const Source& source) {
        return isServed(source.reader) ? "the table of a database"
                                       : source.file.substr(source.file.find_last_of('/') + 1);
    };

    struct Words {
        decltype(file)& name;

        std::string operator()(const AppendStep& s) const { return "append " + name(s.other); }

        std::string operator()(const JoinStep& s) const {
            std::vector<std::string> keys;
            for (const KeyPair& pair : s.by) {
                keys.push_back(pair.here == pair.there ? pair.here
                                                       : pair.here + " = " + pair.there);
            }
            return "join " + name(s.other) + " by " + joinedNames(keys);
        }

        std::string operator()(const CollapseStep& s) const {
            return "one row for each " + joinedNames(s.by);
        }

        std::string operator()(const LongStep& s) const {
            std::vector<std::string> names;
            for (const LongVariable& v : s.variables) {
                names.push_back(v.name);
            }
            return "to long: " + joinedNames(names) + " by " + s.moment;
        }

        std::string operator()(const WideStep& s) const {
            return "to wide: one row for each " + s.unit + ", columns for each " + s.moment;
        }
    };

    return std::visit(Words{file}, step);
}

const Question* Study::find(const std::string& id) const {
    const auto at = std::find_if(questions.begin(), questions.end(),
                                 [&](const Question& q) { return q.id == id; });
    return at == questions.end() ? nullptr : &*at;
}

const Question* Study::lead() const {
    const auto at =
        std::find_if(questions.begin(), questions.end(), [](const Question& q) { return q.lead; });
    return at != questions.end() ? &*at : questions.empty() ? nullptr : &questions.front();
}

std::vector<const Question*> Study::family(const std::string& id) const {
    const Question* one = find(id);
    const std::string root = one == nullptr || one->variantOf.empty() ? id : one->variantOf;
    std::vector<const Question*> members;
    for (const Question& q : questions) {
        if (q.id == root || q.variantOf == root) {
            members.push_back(&q);
        }
    }
    return members;
}

Result<Study> apply(const Study& study, const Edit& edit) {
    Study next = study;
    if (auto done = std::visit(Applier{next}, edit.change); !done) {
        return tl::make_unexpected(done.error());
    }
    next.trail.push_back({timeNow(), edit.did});
    return next;
}

std::vector<std::string> usesOf(const Study& study, const std::string& variable) {
    Study copy = study;
    std::vector<std::string> uses;
    const auto add = [&](const std::string& where) {
        if (std::find(uses.begin(), uses.end(), where) == uses.end()) {
            uses.push_back(where);
        }
    };
    eachText(copy, [&](const std::string& text, const std::string& where) {
        const auto parsed = Expression::parse(text);
        if (text == variable || (parsed && parsed->names().contains(variable))) {
            add(where);
        }
    });
    for (Question& q : copy.questions) {
        bool used = false;
        eachAskedName(q, [&](const std::string& name) {
            const auto parsed = Expression::parse(name);
            used = used || name == variable || (parsed && parsed->names().contains(variable));
        });
        for (const std::string& statement : q.hypotheses) {
            // No name has a line break: what a rename to it changes speaks of the variable.
            used = used || renamedStatement(statement, variable, "\n") != statement;
        }
        if (used) {
            add("the question " + (q.title.empty() ? q.id : q.title));
        }
    }
    for (const std::string* role : roles(copy)) {
        if (*role == variable) {
            const auto& filled = copy.imputation.variables;
            const bool isFilled = std::any_of(filled.begin(), filled.end(),
                                              [&](const std::string& n) { return &n == role; });
            add(isFilled                                                 ? "what is filled in"
                : role == &copy.layout.unit || role == &copy.layout.time ? "the layout"
                                                                         : "the survey design");
        }
    }
    return uses;
}

std::set<std::string> namesUsed(const Study& study) {
    Study copy = study;
    std::set<std::string> names;
    eachText(copy, [&](const std::string& text, const std::string& /*where*/) {
        if (const auto parsed = Expression::parse(text)) {
            names.merge(parsed->names());
        }
    });
    const auto addName = [&](const std::string& name) {
        const auto parsed = Expression::parse(name);
        if (!name.empty() && !parsed) {
            names.insert(name);  // As “log y”, which an expression would put in quotes.
        } else if (parsed) {
            names.merge(parsed->names());
        }
    };
    for (const std::string* role : roles(copy)) {
        addName(*role);
    }
    // Statements name terms of their question, and its constant: nothing that is not there already.
    for (Question& q : copy.questions) {
        eachAskedName(q, addName);
    }
    for (const Derived& d : study.derived) {
        names.erase(d.name);
    }
    for (const KeptColumn& c : study.kept) {
        names.erase(c.name);
    }
    for (const TermSet& set : study.sets) {
        names.erase(set.name);
    }
    return names;
}

std::string freshQuestionId(const Study& study) {
    for (int i = 1;; ++i) {
        std::string id = fmt::format("q{}", i);
        if (study.find(id) == nullptr) {
            return id;
        }
    }
}

}  // namespace rapporto
