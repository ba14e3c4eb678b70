#pragma once

#include "app/shell/session.h"
#include "app/shell/told_parts.h"

#include <QWidget>

class QGridLayout;
class QLabel;

namespace rapporto::app {

/// Predictions as intervals on one axis: a broad bar for the mean, a thin line for a single row.
class PredictionBars : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit PredictionBars(QWidget* parent = nullptr);

    void showPredictions(std::vector<Prediction> predictions, const QString& axis, int chosen);

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void chosen(int scenario);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;

  private:
    std::vector<Prediction> predictions_;
    QString axis_;
    int chosen_ = 0;
};

/// The what-if sheet: variables as rows, scenarios as columns, sliders and level pickers; the
/// predictions below move with them. What stands here is the question’s `predict`; it is kept when
/// a slider is let go.
class PredictPage : public QWidget {
    Q_OBJECT

  public:
    PredictPage(Session& session, QWidget* parent);

    void showAnswer(const std::shared_ptr<const Answer>& answer);

    /// The scenario that the reading column speaks of.
    [[nodiscard]] int chosen() const { return chosen_; }

    /// What stands on the page now, kept or not.
    [[nodiscard]] const std::vector<Prediction>& predictions() const { return predictions_; }

    /// The answer with the page’s scenarios, for the reading column.
    [[nodiscard]] std::vector<QString> reading() const;

  signals:
    void changed();

  private:
    void build();
    void addCell(int row, int scenario, const ScenarioVariable& variable);
    void setValue(int scenario, const std::string& name, std::optional<Key> value, bool keep);
    void predict();
    void keep(const QString& did);

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    std::vector<PredictRequest> requests_;
    std::vector<Prediction> predictions_;
    std::string shape_;  ///< What the cells were built for.
    int chosen_ = 0;
    bool filling_ = false;
    QString problem_;  ///< What was typed and is no value.
    QWidget* sheet_;
    QGridLayout* grid_;
    PredictionBars* bars_;
    QLabel* message_;
};

}  // namespace rapporto::app
