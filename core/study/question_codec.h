#pragma once

#include "core/study/json_reader.h"
#include "core/study/json_writer.h"
#include "core/study/study.h"

namespace rapporto {

/// Parts of a question in a study file that several kinds of questions share.

/// A number or a text; nothing for anything else.
[[nodiscard]] std::optional<Key> keyOf(const nlohmann::ordered_json& value);

/// Appends the terms listed under `key`.
void readTerms(JsonReader& in, std::vector<Term>& into, const char* key, bool muted);
void readErrors(const nlohmann::ordered_json& json, Question& q, JsonReader& in);
void readWeights(const nlohmann::ordered_json& json, Question& q, JsonReader& in);
void readChecks(const nlohmann::ordered_json& value, Question& q, JsonReader& in);

/// One question; what it asks and this version does not know is kept in `raw`.
///
/// @param number  its place in the study, from 1: an id where it has none.
[[nodiscard]] Question readQuestion(const nlohmann::ordered_json& json, std::size_t number);

[[nodiscard]] nlohmann::ordered_json keyJson(const Key& key);
[[nodiscard]] nlohmann::ordered_json termJson(const Term& term);
[[nodiscard]] nlohmann::ordered_json termsJson(const std::vector<Term>& terms);
[[nodiscard]] nlohmann::ordered_json questionJson(const Question& question);

/// Errors, weights, rows and checks, where they are not the default.
void writeErrors(JsonWriter& out, const Question& q);
void writeWeights(JsonWriter& out, const Question& q);
void writeRows(JsonWriter& out, const Question& q);
void writeChecks(JsonWriter& out, const Question& q);

void readExplain(JsonReader& in, Question& q);
void writeExplain(JsonWriter& out, const Question& q);

}  // namespace rapporto
