#pragma once

#include "app/stages/model/effect_rows.h"

class QButtonGroup;
class QHBoxLayout;
class QLabel;
class QScrollArea;

namespace rapporto::app {

/// What moves each endogenous term, and the outcome on the same instruments: effect rows of the
/// first stages and of the reduced form with their strength in words.
class FirstStagePage : public QWidget {
    Q_OBJECT

  public:
    explicit FirstStagePage(QWidget* parent);

    /// An answer by instruments.
    void showAnswer(std::shared_ptr<const Answer> answer, bool fresh);

    [[nodiscard]] EffectRows* rows() const { return rows_; }

    /// What is in front, as a figure of the report.
    [[nodiscard]] ReportItem forReport() const;

  private:
    void showStage();

    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
    QButtonGroup* which_;
    QHBoxLayout* tabs_;
    QLabel* strength_;
    QScrollArea* scroll_;
    EffectRows* rows_ = nullptr;  ///< Made with the first answer by instruments.
    QString shown_;               ///< Names on the tabs.
};

}  // namespace rapporto::app
