#include "core/report/references.h"

#include "core/report/writers/latex_text.h"

#include <algorithm>
#include <array>
#include <cctype>

namespace rapporto {
namespace {

constexpr const char* kEconometrica = "Econometrica";
constexpr const char* kBiometrika = "Biometrika";
constexpr const char* kJasa = "Journal of the American Statistical Association";
constexpr const char* kJoE = "Journal of Econometrics";
constexpr const char* kReStat = "The Review of Economics and Statistics";
constexpr const char* kReStud = "The Review of Economic Studies";
constexpr const char* kJrssB = "Journal of the Royal Statistical Society B";
constexpr const char* kTechnometrics = "Technometrics";

const std::array kReferences = {
    Reference{"Barnard & Rubin 1999", "Barnard, J. & Rubin, D. B.", 1999,
              "Small-sample degrees of freedom with multiple imputation", kBiometrika},
    Reference{"Gelman & Rubin 1992", "Gelman, A. & Rubin, D. B.", 1992,
              "Inference from iterative simulation using multiple sequences",
              "Statistical Science"},
    Reference{"Horvitz & Thompson 1952", "Horvitz, D. G. & Thompson, D. J.", 1952,
              "A generalization of sampling without replacement from a finite universe", kJasa},
    Reference{"Li, Raghunathan & Rubin 1991", "Li, K. H., Raghunathan, T. E. & Rubin, D. B.", 1991,
              "Large-sample significance levels from multiply imputed data using moment-based "
              "statistics and an F reference distribution",
              kJasa},
    Reference{"Pinheiro & Bates 1995", "Pinheiro, J. C. & Bates, D. M.", 1995,
              "Approximations to the log-likelihood function in the nonlinear mixed-effects model",
              "Journal of Computational and Graphical Statistics"},
    Reference{"Reiter 2007", "Reiter, J. P.", 2007,
              "Small-sample degrees of freedom for multi-component significance tests with "
              "multiple imputation for missing data",
              kBiometrika},
    Reference{"Rubin 1987", "Rubin, D. B.", 1987, "Multiple imputation for nonresponse in surveys",
              "Wiley"},
    Reference{"Seaman & White 2013", "Seaman, S. R. & White, I. R.", 2013,
              "Review of inverse probability weighting for dealing with missing data",
              "Statistical Methods in Medical Research"},
    Reference{"White, Royston & Wood 2011", "White, I. R., Royston, P. & Wood, A. M.", 2011,
              "Multiple imputation using chained equations: issues and guidance for practice",
              "Statistics in Medicine"},
    Reference{"van Buuren 2007", "van Buuren, S.", 2007,
              "Multiple imputation of discrete and continuous data by fully conditional "
              "specification",
              "Statistical Methods in Medical Research"},
    Reference{"Anderson & Darling 1954", "Anderson, T. W. & Darling, D. A.", 1954,
              "A test of goodness of fit", kJasa},
    Reference{"Damerau 1964", "Damerau, F. J.", 1964,
              "A technique for computer detection and correction of spelling errors",
              "Communications of the ACM"},
    Reference{"D’Agostino & Stephens 1986", "D’Agostino, R. B. & Stephens, M. A.", 1986,
              "Goodness-of-fit techniques", "Marcel Dekker"},
    Reference{"D’Agostino, Belanger & D’Agostino 1990",
              "D’Agostino, R. B., Belanger, A. & D’Agostino, R. B., Jr.", 1990,
              "A suggestion for using powerful and informative tests of normality",
              "The American Statistician"},
    Reference{"Efron & Tibshirani 1993", "Efron, B. & Tibshirani, R. J.", 1993,
              "An introduction to the bootstrap", "Chapman & Hall"},
    Reference{"Kleiber & Zeileis 2016", "Kleiber, C. & Zeileis, A.", 2016,
              "Visualizing count data regressions using rootograms", "The American Statistician"},
    Reference{"McCullagh & Nelder 1989", "McCullagh, P. & Nelder, J. A.", 1989,
              "Generalized linear models", "Chapman & Hall"},
    Reference{"Newey 1985", "Newey, W. K.", 1985,
              "Generalized method of moments specification testing", kJoE},
    Reference{"Rousseeuw & Van Driessen 2006", "Rousseeuw, P. J. & Van Driessen, K.", 2006,
              "Computing LTS regression for large data sets",
              "Data Mining and Knowledge Discovery"},
    Reference{"Wald 1943", "Wald, A.", 1943,
              "Tests of statistical hypotheses concerning several parameters when the number of "
              "observations is large",
              "Transactions of the American Mathematical Society"},
    Reference{"Wilson 2015", "Wilson, P.", 2015,
              "The misuse of the Vuong test for non-nested models to test for zero-inflation",
              "Economics Letters"},
    Reference{"de Chaisemartin & D’Haultfœuille 2020", "de Chaisemartin, C. & D’Haultfœuille, X.",
              2020, "Two-way fixed effects estimators with heterogeneous treatment effects",
              "American Economic Review"},
    Reference{"Altonji, Elder & Taber 2005", "Altonji, J. G., Elder, T. E. & Taber, C. R.", 2005,
              "Selection on observed and unobserved variables: assessing the effectiveness of "
              "Catholic schools",
              "Journal of Political Economy"},
    Reference{"Cinelli & Hazlett 2025", "Cinelli, C. & Hazlett, C.", 2025,
              "An omitted variable bias framework for sensitivity analysis of instrumental "
              "variables",
              kBiometrika},
    Reference{"Fisher 1935", "Fisher, R. A.", 1935, "The design of experiments", "Oliver & Boyd"},
    Reference{"Goldberger 1962", "Goldberger, A. S.", 1962,
              "Best linear unbiased prediction in the generalized linear regression model", kJasa},
    Reference{"Horowitz & Manski 2000", "Horowitz, J. L. & Manski, C. F.", 2000,
              "Nonparametric analysis of randomized experiments with missing covariate and outcome "
              "data",
              kJasa},
    Reference{"Imbens & Manski 2004", "Imbens, G. W. & Manski, C. F.", 2004,
              "Confidence intervals for partially identified parameters", kEconometrica},
    Reference{"Lee 2009", "Lee, D. S.", 2009,
              "Training, wages, and sample selection: estimating sharp bounds on treatment effects",
              kReStud},
    Reference{"Lütkepohl 2005", "Lütkepohl, H.", 2005,
              "New introduction to multiple time series analysis", "Springer"},
    Reference{"Rosenbaum 2002", "Rosenbaum, P. R.", 2002, "Observational studies", "Springer"},
    Reference{"Young 2019", "Young, A.", 2019,
              "Channeling Fisher: randomization tests and the statistical insignificance of "
              "seemingly significant experimental results",
              "The Quarterly Journal of Economics"},
    Reference{"Cinelli & Hazlett 2020", "Cinelli, C. & Hazlett, C.", 2020,
              "Making sense of sensitivity: extending omitted variable bias", kJrssB},
    Reference{"Oster 2019", "Oster, E.", 2019,
              "Unobservable selection and coefficient stability: theory and evidence",
              "Journal of Business & Economic Statistics"},
    Reference{"VanderWeele & Ding 2017", "VanderWeele, T. J. & Ding, P.", 2017,
              "Sensitivity analysis in observational research: introducing the E-value",
              "Annals of Internal Medicine"},
    Reference{"Albert & Anderson 1984", "Albert, A. & Anderson, J. A.", 1984,
              "On the existence of maximum likelihood estimates in logistic regression models",
              kBiometrika},
    Reference{"Anderson & Rubin 1949", "Anderson, T. W. & Rubin, H.", 1949,
              "Estimation of the parameters of a single equation in a complete system of "
              "stochastic equations",
              "The Annals of Mathematical Statistics"},
    Reference{"Anderson 1951", "Anderson, T. W.", 1951,
              "Estimating linear restrictions on regression coefficients for multivariate normal "
              "distributions",
              "The Annals of Mathematical Statistics"},
    Reference{"Andrews 1993", "Andrews, D. W. K.", 1993,
              "Tests for parameter instability and structural change with unknown change point",
              kEconometrica},
    Reference{"Arellano & Bond 1991", "Arellano, M. & Bond, S.", 1991,
              "Some tests of specification for panel data: Monte Carlo evidence and an application "
              "to employment equations",
              kReStud},
    Reference{"Baltagi & Li 1990", "Baltagi, B. H. & Li, Q.", 1990,
              "A Lagrange multiplier test for the error components model with incomplete panels",
              "Econometric Reviews"},
    Reference{"Basmann 1960", "Basmann, R. L.", 1960,
              "On finite sample distributions of generalized classical linear identifiability test "
              "statistics",
              kJasa},
    Reference{"Beckman & Cook 1983", "Beckman, R. J. & Cook, R. D.", 1983, "Outlier..........s",
              kTechnometrics},
    Reference{
        "Belloni, Chernozhukov & Hansen 2014", "Belloni, A., Chernozhukov, V. & Hansen, C.", 2014,
        "Inference on treatment effects after selection among high-dimensional controls", kReStud},
    Reference{"Belsley, Kuh & Welsch 1980", "Belsley, D. A., Kuh, E. & Welsch, R. E.", 1980,
              "Regression diagnostics: identifying influential data and sources of collinearity",
              "Wiley"},
    Reference{"Benjamini & Hochberg 1995", "Benjamini, Y. & Hochberg, Y.", 1995,
              "Controlling the false discovery rate: a practical and powerful approach to multiple "
              "testing",
              kJrssB},
    Reference{"Binder 1983", "Binder, D. A.", 1983,
              "On the variances of asymptotically normal estimators from complex surveys",
              "International Statistical Review"},
    Reference{"Birnbaum 1961", "Birnbaum, A.", 1961,
              "Confidence curves: an omnibus technique for estimation and testing statistical "
              "hypotheses",
              kJasa},
    Reference{"Blundell & Bond 1998", "Blundell, R. & Bond, S.", 1998,
              "Initial conditions and moment restrictions in dynamic panel data models", kJoE},
    Reference{"Bollen 1987", "Bollen, K. A.", 1987,
              "Total, direct, and indirect effects in structural equation models",
              "Sociological Methodology"},
    Reference{"Bollen 1989", "Bollen, K. A.", 1989, "Structural equations with latent variables",
              "Wiley"},
    Reference{"Bonett & Wright 2000", "Bonett, D. G. & Wright, T. A.", 2000,
              "Sample size requirements for estimating Pearson, Kendall and Spearman correlations",
              "Psychometrika"},
    Reference{"Brant 1990", "Brant, R.", 1990,
              "Assessing proportionality in the proportional odds model for ordinal logistic "
              "regression",
              "Biometrics"},
    Reference{"Breusch & Pagan 1979", "Breusch, T. S. & Pagan, A. R.", 1979,
              "A simple test for heteroscedasticity and random coefficient variation",
              kEconometrica},
    Reference{"Breusch & Pagan 1980", "Breusch, T. S. & Pagan, A. R.", 1980,
              "The Lagrange multiplier test and its applications to model specification in "
              "econometrics",
              kReStud},
    Reference{"Breusch 1978", "Breusch, T. S.", 1978,
              "Testing for autocorrelation in dynamic linear models", "Australian Economic Papers"},
    Reference{"van den Broek 1995", "van den Broek, J.", 1995,
              "A score test for zero inflation in a Poisson distribution", "Biometrics"},
    Reference{"Brown & Forsythe 1974", "Brown, M. B. & Forsythe, A. B.", 1974,
              "Robust tests for the equality of variances", kJasa},
    Reference{"Brown, Durbin & Evans 1975", "Brown, R. L., Durbin, J. & Evans, J. M.", 1975,
              "Techniques for testing the constancy of regression relationships over time", kJrssB},
    Reference{"Cameron & Trivedi 1990", "Cameron, A. C. & Trivedi, P. K.", 1990,
              "Regression-based tests for overdispersion in the Poisson model", kJoE},
    Reference{"Cameron & Trivedi 2013", "Cameron, A. C. & Trivedi, P. K.", 2013,
              "Regression analysis of count data", "Cambridge University Press"},
    Reference{"Cameron, Gelbach & Miller 2008", "Cameron, A. C., Gelbach, J. B. & Miller, D. L.",
              2008, "Bootstrap-based improvements for inference with clustered errors", kReStat},
    Reference{"Cameron, Gelbach & Miller 2011", "Cameron, A. C., Gelbach, J. B. & Miller, D. L.",
              2011, "Robust inference with multiway clustering",
              "Journal of Business & Economic Statistics"},
    Reference{"Chamberlain 1980", "Chamberlain, G.", 1980,
              "Analysis of covariance with qualitative data", kReStud},
    Reference{"Chow 1960", "Chow, G. C.", 1960,
              "Tests of equality between sets of coefficients in two linear regressions",
              kEconometrica},
    Reference{"Cleveland 1979", "Cleveland, W. S.", 1979,
              "Robust locally weighted regression and smoothing scatterplots", kJasa},
    Reference{"Cook 1977", "Cook, R. D.", 1977,
              "Detection of influential observation in linear regression", kTechnometrics},
    Reference{"Cragg & Donald 1993", "Cragg, J. G. & Donald, S. G.", 1993,
              "Testing identifiability and specification in instrumental variable models",
              "Econometric Theory"},
    Reference{"Cribari-Neto 2004", "Cribari-Neto, F.", 2004,
              "Asymptotic inference under heteroskedasticity of unknown form",
              "Computational Statistics & Data Analysis"},
    Reference{"D’Agostino 1970", "D’Agostino, R. B.", 1970,
              "Transformation to normality of the null distribution of g1", kBiometrika},
    Reference{"Dallal & Wilkinson 1986", "Dallal, G. E. & Wilkinson, L.", 1986,
              "An analytic approximation to the distribution of Lilliefors’s test statistic for "
              "normality",
              "The American Statistician"},
    Reference{"Davidson & MacKinnon 1981", "Davidson, R. & MacKinnon, J. G.", 1981,
              "Several tests for model specification in the presence of alternative hypotheses",
              kEconometrica},
    Reference{"Davies 1987", "Davies, R. B.", 1987,
              "Hypothesis testing when a nuisance parameter is present only under the alternative",
              kBiometrika},
    Reference{"DeLong, DeLong & Clarke-Pearson 1988",
              "DeLong, E. R., DeLong, D. M. & Clarke-Pearson, D. L.", 1988,
              "Comparing the areas under two or more correlated receiver operating characteristic "
              "curves: a nonparametric approach",
              "Biometrics"},
    Reference{"Donner 1986", "Donner, A.", 1986,
              "A review of inference procedures for the intraclass correlation coefficient in the "
              "one-way random effects model",
              "International Statistical Review"},
    Reference{"Driscoll & Kraay 1998", "Driscoll, J. C. & Kraay, A. C.", 1998,
              "Consistent covariance matrix estimation with spatially dependent panel data",
              kReStat},
    Reference{"Duan 1983", "Duan, N.", 1983,
              "Smearing estimate: a nonparametric retransformation method", kJasa},
    Reference{"DuMouchel & Duncan 1983", "DuMouchel, W. H. & Duncan, G. J.", 1983,
              "Using sample survey weights in multiple regression analyses of stratified samples",
              kJasa},
    Reference{"Durbin & Watson 1950", "Durbin, J. & Watson, G. S.", 1950,
              "Testing for serial correlation in least squares regression: I", kBiometrika},
    Reference{"Durbin & Watson 1951", "Durbin, J. & Watson, G. S.", 1951,
              "Testing for serial correlation in least squares regression: II", kBiometrika},
    Reference{"Durbin 1954", "Durbin, J.", 1954, "Errors in variables",
              "Review of the International Statistical Institute"},
    Reference{"Efron 1987", "Efron, B.", 1987, "Better bootstrap confidence intervals", kJasa},
    Reference{"Eichenbaum, Hansen & Singleton 1988",
              "Eichenbaum, M. S., Hansen, L. P. & Singleton, K. J.", 1988,
              "A time series analysis of representative agent models of consumption and leisure "
              "choice under uncertainty",
              "The Quarterly Journal of Economics"},
    Reference{"Engle 1982", "Engle, R. F.", 1982,
              "Autoregressive conditional heteroscedasticity with estimates of the variance of "
              "United Kingdom inflation",
              kEconometrica},
    Reference{"Fieller 1954", "Fieller, E. C.", 1954, "Some problems in interval estimation",
              kJrssB},
    Reference{"Firth 1993", "Firth, D.", 1993, "Bias reduction of maximum likelihood estimates",
              kBiometrika},
    Reference{"Fox & Monette 1992", "Fox, J. & Monette, G.", 1992,
              "Generalized collinearity diagnostics", kJasa},
    Reference{"Freyaldenhoven, Hansen & Shapiro 2019",
              "Freyaldenhoven, S., Hansen, C. & Shapiro, J. M.", 2019,
              "Pre-event trends in the panel event-study design", "American Economic Review"},
    Reference{"Furnival & Wilson 1974", "Furnival, G. M. & Wilson, R. W.", 1974,
              "Regressions by leaps and bounds", kTechnometrics},
    Reference{"Glejser 1969", "Glejser, H.", 1969, "A new test for heteroskedasticity", kJasa},
    Reference{"Godfrey 1978", "Godfrey, L. G.", 1978,
              "Testing against general autoregressive and moving average error models when the "
              "regressors include lagged dependent variables",
              kEconometrica},
    Reference{"Goldfeld & Quandt 1965", "Goldfeld, S. M. & Quandt, R. E.", 1965,
              "Some tests for homoscedasticity", kJasa},
    Reference{"Goodman-Bacon 2021", "Goodman-Bacon, A.", 2021,
              "Difference-in-differences with variation in treatment timing", kJoE},
    Reference{"Hanley & McNeil 1982", "Hanley, J. A. & McNeil, B. J.", 1982,
              "The meaning and use of the area under a receiver operating characteristic (ROC) "
              "curve",
              "Radiology"},
    Reference{"Hansen 1982", "Hansen, L. P.", 1982,
              "Large sample properties of generalized method of moments estimators", kEconometrica},
    Reference{"Hansen 1997", "Hansen, B. E.", 1997,
              "Approximate asymptotic p values for structural-change tests",
              "Journal of Business & Economic Statistics"},
    Reference{"Harvey 1976", "Harvey, A. C.", 1976,
              "Estimating regression models with multiplicative heteroscedasticity", kEconometrica},
    Reference{"Hausman 1978", "Hausman, J. A.", 1978, "Specification tests in econometrics",
              kEconometrica},
    Reference{"Heckman 1979", "Heckman, J. J.", 1979,
              "Sample selection bias as a specification error", kEconometrica},
    Reference{"Hoaglin & Welsch 1978", "Hoaglin, D. C. & Welsch, R. E.", 1978,
              "The hat matrix in regression and ANOVA", "The American Statistician"},
    Reference{"Holm 1979", "Holm, S.", 1979,
              "A simple sequentially rejective multiple test procedure",
              "Scandinavian Journal of Statistics"},
    Reference{"Honda 1985", "Honda, Y.", 1985,
              "Testing the error components model with non-normal disturbances", kReStud},
    Reference{"Hosmer & Lemeshow 1980", "Hosmer, D. W. & Lemeshow, S.", 1980,
              "Goodness of fit tests for the multiple logistic regression model",
              "Communications in Statistics – Theory and Methods"},
    Reference{"Huber 1981", "Huber, P. J.", 1981, "Robust statistics", "Wiley"},
    Reference{"Hurvich & Tsai 1989", "Hurvich, C. M. & Tsai, C.-L.", 1989,
              "Regression and time series model selection in small samples", kBiometrika},
    Reference{"Imai, Keele & Tingley 2010", "Imai, K., Keele, L. & Tingley, D.", 2010,
              "A general approach to causal mediation analysis", "Psychological Methods"},
    Reference{"Imai, Keele & Yamamoto 2010", "Imai, K., Keele, L. & Yamamoto, T.", 2010,
              "Identification, inference and sensitivity analysis for causal mediation effects",
              "Statistical Science"},
    Reference{"Jarque & Bera 1980", "Jarque, C. M. & Bera, A. K.", 1980,
              "Efficient tests for normality, homoscedasticity and serial independence of "
              "regression residuals",
              "Economics Letters"},
    Reference{"Kish 1965", "Kish, L.", 1965, "Survey sampling", "Wiley"},
    Reference{"Kleibergen & Paap 2006", "Kleibergen, F. & Paap, R.", 2006,
              "Generalized reduced rank tests using the singular value decomposition", kJoE},
    Reference{"Koenker & Bassett 1978", "Koenker, R. & Bassett, G.", 1978, "Regression quantiles",
              kEconometrica},
    Reference{"Koenker 1981", "Koenker, R.", 1981,
              "A note on studentizing a test for heteroscedasticity", kJoE},
    Reference{"Lambert 1992", "Lambert, D.", 1992,
              "Zero-inflated Poisson regression, with an application to defects in manufacturing",
              kTechnometrics},
    Reference{"Larsen & McCleary 1972", "Larsen, W. A. & McCleary, S. J.", 1972,
              "The use of partial residual plots in regression analysis", kTechnometrics},
    Reference{"Liang & Zeger 1986", "Liang, K.-Y. & Zeger, S. L.", 1986,
              "Longitudinal data analysis using generalized linear models", kBiometrika},
    Reference{"Lilliefors 1967", "Lilliefors, H. W.", 1967,
              "On the Kolmogorov–Smirnov test for normality with mean and variance unknown", kJasa},
    Reference{"Ljung & Box 1978", "Ljung, G. M. & Box, G. E. P.", 1978,
              "On a measure of lack of fit in time series models", kBiometrika},
    Reference{"MacKinnon & White 1985", "MacKinnon, J. G. & White, H.", 1985,
              "Some heteroskedasticity-consistent covariance matrix estimators with improved "
              "finite sample properties",
              kJoE},
    Reference{"Mallows 1973", "Mallows, C. L.", 1973, "Some comments on Cp", kTechnometrics},
    Reference{"McCullagh 1980", "McCullagh, P.", 1980, "Regression models for ordinal data",
              kJrssB},
    Reference{"McKelvey & Zavoina 1975", "McKelvey, R. D. & Zavoina, W.", 1975,
              "A statistical model for the analysis of ordinal level dependent variables",
              "The Journal of Mathematical Sociology"},
    Reference{"Montiel Olea & Pflueger 2013", "Montiel Olea, J. L. & Pflueger, C.", 2013,
              "A robust test for weak instruments", "Journal of Business & Economic Statistics"},
    Reference{"Muggeo 2003", "Muggeo, V. M. R.", 2003,
              "Estimating regression models with unknown break-points", "Statistics in Medicine"},
    Reference{"Mullahy 1986", "Mullahy, J.", 1986,
              "Specification and testing of some modified count data models", kJoE},
    Reference{"Mundlak 1978", "Mundlak, Y.", 1978,
              "On the pooling of time series and cross section data", kEconometrica},
    Reference{"Bårdsen 1989", "Bårdsen, G.", 1989,
              "Estimation of long run coefficients in error correction models",
              "Oxford Bulletin of Economics and Statistics"},
    Reference{"Cochrane & Orcutt 1949", "Cochrane, D. & Orcutt, G. H.", 1949,
              "Application of least squares regression to relationships containing auto-correlated "
              "error terms",
              kJasa},
    Reference{"Deming & Stephan 1940", "Deming, W. E. & Stephan, F. F.", 1940,
              "On a least squares adjustment of a sampled frequency table when the expected "
              "marginal totals are known",
              "The Annals of Mathematical Statistics"},
    Reference{"Deville & Särndal 1992", "Deville, J.-C. & Särndal, C.-E.", 1992,
              "Calibration estimators in survey sampling", kJasa},
    Reference{"Fai & Cornelius 1996", "Fai, A. H.-T. & Cornelius, P. L.", 1996,
              "Approximate F-tests of multiple degree of freedom hypotheses in generalized least "
              "squares analyses of unbalanced split-plot experiments",
              "Journal of Statistical Computation and Simulation"},
    Reference{"Kenward & Roger 1997", "Kenward, M. G. & Roger, J. H.", 1997,
              "Small sample inference for fixed effects from restricted maximum likelihood",
              "Biometrics"},
    Reference{"Laird & Ware 1982", "Laird, N. M. & Ware, J. H.", 1982,
              "Random-effects models for longitudinal data", "Biometrics"},
    Reference{"Maas & Hox 2005", "Maas, C. J. M. & Hox, J. J.", 2005,
              "Sufficient sample sizes for multilevel modeling", "Methodology"},
    Reference{"Patterson & Thompson 1971", "Patterson, H. D. & Thompson, R.", 1971,
              "Recovery of inter-block information when block sizes are unequal", kBiometrika},
    Reference{"Satterthwaite 1946", "Satterthwaite, F. E.", 1946,
              "An approximate distribution of estimates of variance components",
              "Biometrics Bulletin"},
    Reference{"Self & Liang 1987", "Self, S. G. & Liang, K.-Y.", 1987,
              "Asymptotic properties of maximum likelihood estimators and likelihood ratio tests "
              "under nonstandard conditions",
              kJasa},
    Reference{"Stram & Lee 1994", "Stram, D. O. & Lee, J. W.", 1994,
              "Variance components testing in the longitudinal mixed effects model", "Biometrics"},
    Reference{"Verbeke & Lesaffre 1997", "Verbeke, G. & Lesaffre, E.", 1997,
              "The effect of misspecifying the random-effects distribution in linear mixed models "
              "for longitudinal data",
              "Computational Statistics & Data Analysis"},
    Reference{"Dickey & Fuller 1979", "Dickey, D. A. & Fuller, W. A.", 1979,
              "Distribution of the estimators for autoregressive time series with a unit root",
              kJasa},
    Reference{"Engle & Granger 1987", "Engle, R. F. & Granger, C. W. J.", 1987,
              "Co-integration and error correction: representation, estimation, and testing",
              kEconometrica},
    Reference{"Im, Pesaran & Shin 2003", "Im, K. S., Pesaran, M. H. & Shin, Y.", 2003,
              "Testing for unit roots in heterogeneous panels", kJoE},
    Reference{"Kwiatkowski, Phillips, Schmidt & Shin 1992",
              "Kwiatkowski, D., Phillips, P. C. B., Schmidt, P. & Shin, Y.", 1992,
              "Testing the null hypothesis of stationarity against the alternative of a unit root",
              kJoE},
    Reference{"MacKinnon 1996", "MacKinnon, J. G.", 1996,
              "Numerical distribution functions for unit root and cointegration tests",
              "Journal of Applied Econometrics"},
    Reference{"Maddala & Wu 1999", "Maddala, G. S. & Wu, S.", 1999,
              "A comparative study of unit root tests with panel data and a new simple test",
              "Oxford Bulletin of Economics and Statistics"},
    Reference{"Prais & Winsten 1954", "Prais, S. J. & Winsten, C. B.", 1954,
              "Trend estimators and serial correlation", "Cowles Commission Discussion Paper 383"},
    Reference{"Said & Dickey 1984", "Said, S. E. & Dickey, D. A.", 1984,
              "Testing for unit roots in autoregressive-moving average models of unknown order",
              kBiometrika},
    Reference{"Newey & West 1987", "Newey, W. K. & West, K. D.", 1987,
              "A simple, positive semi-definite, heteroskedasticity and autocorrelation consistent "
              "covariance matrix",
              kEconometrica},
    Reference{"Newey & West 1994", "Newey, W. K. & West, K. D.", 1994,
              "Automatic lag selection in covariance matrix estimation", kReStud},
    Reference{"Nickell 1981", "Nickell, S.", 1981, "Biases in dynamic models with fixed effects",
              kEconometrica},
    Reference{"Papke & Wooldridge 1996", "Papke, L. E. & Wooldridge, J. M.", 1996,
              "Econometric methods for fractional response variables with an application to 401(k) "
              "plan participation rates",
              "Journal of Applied Econometrics"},
    Reference{"Pearl 2001", "Pearl, J.", 2001, "Direct and indirect effects",
              "Proceedings of the 17th Conference on Uncertainty in Artificial Intelligence"},
    Reference{"Pesaran 2004", "Pesaran, M. H.", 2004,
              "General diagnostic tests for cross section dependence in panels",
              "University of Cambridge, Working Papers in Economics"},
    Reference{"Pregibon 1980", "Pregibon, D.", 1980,
              "Goodness of link tests for generalized linear models",
              "Journal of the Royal Statistical Society C"},
    Reference{"Ramsey 1969", "Ramsey, J. B.", 1969,
              "Tests for specification errors in classical linear least-squares regression "
              "analysis",
              kJrssB},
    Reference{"Rivers & Vuong 1988", "Rivers, D. & Vuong, Q. H.", 1988,
              "Limited information estimators and exogeneity tests for simultaneous probit models",
              kJoE},
    Reference{"Romano & Wolf 2005", "Romano, J. P. & Wolf, M.", 2005,
              "Exact and approximate stepdown methods for multiple hypothesis testing", kJasa},
    Reference{"Roodman 2009", "Roodman, D.", 2009, "A note on the theme of too many instruments",
              "Oxford Bulletin of Economics and Statistics"},
    Reference{"Rousseeuw 1984", "Rousseeuw, P. J.", 1984, "Least median of squares regression",
              kJasa},
    Reference{"Royston 1995", "Royston, P.", 1995,
              "Remark AS R94: a remark on algorithm AS 181: the W-test for normality",
              "Journal of the Royal Statistical Society C"},
    Reference{"Sargan 1958", "Sargan, J. D.", 1958,
              "The estimation of economic relationships using instrumental variables",
              kEconometrica},
    Reference{"Shea 1997", "Shea, J.", 1997,
              "Instrument relevance in multivariate linear models: a simple measure", kReStat},
    Reference{"Simonsohn, Simmons & Nelson 2020", "Simonsohn, U., Simmons, J. P. & Nelson, L. D.",
              2020, "Specification curve analysis", "Nature Human Behaviour"},
    Reference{"Sobel 1982", "Sobel, M. E.", 1982,
              "Asymptotic confidence intervals for indirect effects in structural equation models",
              "Sociological Methodology"},
    Reference{"Steiger 1990", "Steiger, J. H.", 1990,
              "Structural model evaluation and modification: an interval estimation approach",
              "Multivariate Behavioral Research"},
    Reference{"Stock & Yogo 2005", "Stock, J. H. & Yogo, M.", 2005,
              "Testing for weak instruments in linear IV regression",
              "Identification and Inference for Econometric Models, Cambridge University Press"},
    Reference{"Sun & Abraham 2021", "Sun, L. & Abraham, S.", 2021,
              "Estimating dynamic treatment effects in event studies with heterogeneous treatment "
              "effects",
              kJoE},
    Reference{"Swamy & Arora 1972", "Swamy, P. A. V. B. & Arora, S. S.", 1972,
              "The exact finite sample properties of the estimators of coefficients in the error "
              "components regression models",
              kEconometrica},
    Reference{"Tibshirani 1996", "Tibshirani, R.", 1996,
              "Regression shrinkage and selection via the lasso", kJrssB},
    Reference{"Tobin 1958", "Tobin, J.", 1958,
              "Estimation of relationships for limited dependent variables", kEconometrica},
    Reference{"Utts 1982", "Utts, J. M.", 1982, "The rainbow test for lack of fit in regression",
              "Communications in Statistics – Theory and Methods"},
    Reference{"Vuong 1989", "Vuong, Q. H.", 1989,
              "Likelihood ratio tests for model selection and non-nested hypotheses",
              kEconometrica},
    Reference{"Wald & Wolfowitz 1940", "Wald, A. & Wolfowitz, J.", 1940,
              "On a test whether two samples are from the same population",
              "The Annals of Mathematical Statistics"},
    Reference{"Webb 2014", "Webb, M. D.", 2014,
              "Reworking wild bootstrap based inference for clustered errors",
              "Queen’s Economics Department Working Paper"},
    Reference{"White 1980", "White, H.", 1980,
              "A heteroskedasticity-consistent covariance matrix estimator and a direct test for "
              "heteroskedasticity",
              kEconometrica},
    Reference{"Windmeijer 2005", "Windmeijer, F.", 2005,
              "A finite sample correction for the variance of linear efficient two-step GMM "
              "estimators",
              kJoE},
    Reference{"Wooldridge 2010", "Wooldridge, J. M.", 2010,
              "Econometric analysis of cross section and panel data", "MIT Press"},
    Reference{"Wu 1973", "Wu, D.-M.", 1973,
              "Alternative tests of independence between stochastic regressors and disturbances",
              kEconometrica},
    Reference{"Yohai 1987", "Yohai, V. J.", 1987,
              "High breakdown-point and high efficiency robust estimates for regression",
              "The Annals of Statistics"},
    Reference{"Zeileis & Hornik 2007", "Zeileis, A. & Hornik, K.", 2007,
              "Generalized M-fluctuation tests for parameter instability", "Stat. Neerl."},
    Reference{"Zhao, Lynch & Chen 2010", "Zhao, X., Lynch, J. G. & Chen, Q.", 2010,
              "Reconsidering Baron and Kenny: myths and truths about mediation analysis",
              "Journal of Consumer Research"},
};

bool endsOfWord(const std::string& text, std::size_t at) {
    return at >= text.size() || std::isalnum(static_cast<unsigned char>(text[at])) == 0;
}

bool isNamed(const Reference& reference, const std::string& text) {
    const std::string cite = reference.cite;
    const std::size_t blank = cite.rfind(' ');
    // “White 1980” and “White (1980)”.
    for (const std::string& form :
         {cite, cite.substr(0, blank) + " (" + cite.substr(blank + 1) + ")"}) {
        for (std::size_t at = text.find(form); at != std::string::npos;
             at = text.find(form, at + 1)) {
            // “Pagan 1980” is no other work than “Breusch & Pagan 1980”.
            const bool whole = at == 0 || (endsOfWord(text, at - 1) &&
                                           (at < 2 || text.compare(at - 2, 2, "& ") != 0));
            if (whole && endsOfWord(text, at + form.size())) {
                return true;
            }
        }
    }
    return false;
}

}  // namespace

std::string Reference::text() const {
    return std::string(authors) + " (" + std::to_string(year) + "). " + title + ". " + where + ".";
}

std::string Reference::key() const {
    std::string out;
    for (const char* c = cite; *c != 0; ++c) {
        if (std::isalnum(static_cast<unsigned char>(*c)) != 0) {
            out += static_cast<char>(std::tolower(static_cast<unsigned char>(*c)));
        }
    }
    return out;
}

std::span<const Reference> allReferences() { return kReferences; }

std::vector<const Reference*> referencesIn(const std::string& text) {
    std::vector<const Reference*> out;
    for (const Reference& reference : kReferences) {
        if (isNamed(reference, text)) {
            out.push_back(&reference);
        }
    }
    std::sort(out.begin(), out.end(),
              [](const Reference* a, const Reference* b) { return a->text() < b->text(); });
    return out;
}

std::string bibtexOf(const std::vector<const Reference*>& references) {
    std::string out;
    for (const Reference* one : references) {
        std::string authors = one->authors;
        // “A, B. & C, D.” is “A, B. and C, D.”: a comma behind initials parts two persons.
        for (const auto& [from, to] : {std::pair{" & ", " and "}, std::pair{"., ", ". and "}}) {
            for (std::size_t at = authors.find(from); at != std::string::npos;
                 at = authors.find(from, at)) {
                authors.replace(at, std::string(from).size(), to);
                at += std::string(to).size();
            }
        }
        out += "@article{" + one->key() + ",\n  author = {" + latexText(authors) +
               "},\n  title = {{" + latexText(one->title) + "}},\n  journal = {" +
               latexText(one->where) + "},\n  year = {" + std::to_string(one->year) + "}\n}\n";
    }
    return out;
}

}  // namespace rapporto
