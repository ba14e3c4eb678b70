#pragma once

#include <string>
#include <vector>

namespace rapporto {

/// The texts that help is made of, as they stand in docs/.
struct HelpTexts {
    std::string guide;
    std::string methods;
    std::string readings;
    std::string doubts;  ///< What looks odd in a table.
};

/// One thing that help can be asked about.
struct HelpTopic {
    std::string id;  ///< “check:reset”, “method:logit”, “guide:Checks”, “formula:Leverage”.
    std::string title;    ///< “powers of the fit (RESET)”.
    std::string chapter;  ///< “Guide”, “Checks”, “Ways to estimate”, “Formulas”.
    std::string markdown;
};

/// All that help knows: every chapter of the guide, every check with what it asks, how its verdict
/// comes about, its statistic, its source and how it reads, every way to estimate likewise, and
/// every paragraph of the formulas.
class Help {
  public:
    explicit Help(const HelpTexts& texts);

    [[nodiscard]] const std::vector<HelpTopic>& topics() const { return topics_; }

    /// The topic of that id, or null.
    [[nodiscard]] const HelpTopic* topic(const std::string& id) const;

    /// Topics that hold every word, in any case: those whose title holds them all first.
    [[nodiscard]] std::vector<const HelpTopic*> matching(const std::string& words) const;

  private:
    std::vector<HelpTopic> topics_;
};

}  // namespace rapporto
