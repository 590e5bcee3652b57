# Models that R fits and predicts with, written down as PMML: what the tests of internal/core/pmml are held against.
# Debian: r-base-core r-cran-rpart r-cran-nnet. To make the files anew:
#
#   Rscript bench/golden/pmml.R internal/core/pmml/testdata
library(rpart)
library(nnet)
set.seed(42)
out <- commandArgs(TRUE)[1]
n <- 400
town <- data.frame(outdoor = rnorm(n, 2, 8), wind = rexp(n, 0.3),
  mix = sample(c("old-town", "harbour", "works"), n, TRUE))
town$demand <- with(town, 12 - 0.4 * outdoor + 0.05 * outdoor * wind + ifelse(mix == "works", 4, 0) + rnorm(n))
town$fault <- with(town, ifelse(outdoor + rnorm(n, 0, 3) < -2, "sticking", ifelse(wind > 4, "leaking", "ok")))
town$calls <- with(town, rpois(n, exp(0.5 - 0.05 * outdoor)))
town$late <- with(town, ifelse(runif(n) < plogis(-1 + 0.3 * wind), "yes", "no"))
fresh <- town[sample(n, 60), c("outdoor", "wind", "mix")]

g <- function(x) sprintf("%.17g", x)
tag <- function(.element, ..., body = NULL) {
  a <- list(...)
  at <- if (length(a)) paste0(" ", names(a), "=\"", gsub("<", "&lt;", unlist(a)), "\"", collapse = "") else ""
  paste0("<", .element, at, ">", paste(unlist(body), collapse = ""), "</", .element, ">")
}
schema <- function(target) tag("MiningSchema", body = c(sapply(c("outdoor", "wind", "mix"), function(f)
  tag("MiningField", name = f)), tag("MiningField", name = target, usageType = "target")))
write_pmml <- function(name, model, target, kind, predicted, shares = NULL) {
  fields <- c(tag("DataField", name = "outdoor", optype = "continuous", dataType = "double"),
    tag("DataField", name = "wind", optype = "continuous", dataType = "double"),
    tag("DataField", name = "mix", optype = "categorical", dataType = "string"),
    tag("DataField", name = target, optype = if (kind == "string") "categorical" else "continuous", dataType = kind))
  cat(tag("PMML", version = "4.4", xmlns = "http://www.dmg.org/PMML-4_4",
    body = c(tag("Header", description = "fitted by R"), tag("DataDictionary", body = fields), model)),
    file = file.path(out, paste0(name, ".pmml")))
  rows <- cbind(fresh, predicted = if (is.numeric(predicted)) g(predicted) else as.character(predicted))
  if (!is.null(shares)) rows <- cbind(rows, apply(shares, 2, g))
  write.csv(rows, file.path(out, paste0(name, ".csv")), row.names = FALSE)
}
outputs <- function(target, classes) tag("Output", body = c(
  tag("OutputField", name = "predicted", feature = "predictedValue", dataType = "string"),
  sapply(classes, function(c) tag("OutputField", name = c, feature = "probability", value = c, dataType = "double"))))

# Linear regression with an interaction.
fit <- lm(demand ~ outdoor + wind + mix + outdoor:wind, town)
b <- coef(fit)
write_pmml("linear", tag("RegressionModel", functionName = "regression", body = c(schema("demand"),
  tag("RegressionTable", intercept = g(b["(Intercept)"]), body = c(
    tag("NumericPredictor", name = "outdoor", coefficient = g(b["outdoor"])),
    tag("NumericPredictor", name = "wind", coefficient = g(b["wind"])),
    tag("CategoricalPredictor", name = "mix", value = "old-town", coefficient = g(b["mixold-town"])),
    tag("CategoricalPredictor", name = "mix", value = "works", coefficient = g(b["mixworks"])),
    tag("PredictorTerm", coefficient = g(b["outdoor:wind"]), body = c(tag("FieldRef", field = "outdoor"),
      tag("FieldRef", field = "wind"))))))), "demand", "double", predict(fit, fresh))

# Generalised linear models: Poisson with a log link, logistic with its classes, in the general form.
general <- function(fit, target, link, categories = NULL, reference = NULL, fname = "regression") {
  b <- coef(fit)
  p <- paste0("p", seq_along(b) - 1)
  cells <- function(i) switch(names(b)[i], "(Intercept)" = NULL,
    outdoor = tag("PPCell", value = "1", predictorName = "outdoor", parameterName = p[i]),
    wind = tag("PPCell", value = "1", predictorName = "wind", parameterName = p[i]),
    tag("PPCell", value = sub("^mix", "", names(b)[i]), predictorName = "mix", parameterName = p[i]))
  a <- list("GeneralRegressionModel", functionName = fname, modelType = "generalizedLinear", linkFunction = link)
  if (!is.null(reference)) a$targetReferenceCategory <- reference
  a$body <- c(schema(target), if (is.null(categories)) NULL else outputs(target, c(categories, reference)),
    tag("ParameterList", body = sapply(p, function(x) tag("Parameter", name = x))),
    tag("FactorList", body = tag("Predictor", name = "mix")),
    tag("CovariateList", body = c(tag("Predictor", name = "outdoor"), tag("Predictor", name = "wind"))),
    tag("PPMatrix", body = lapply(seq_along(b), cells)),
    tag("ParamMatrix", body = lapply(seq_along(b), function(i) do.call(tag, c(list("PCell", parameterName = p[i],
      beta = g(b[i])), if (is.null(categories)) NULL else list(targetCategory = categories))))))
  do.call(tag, a)
}
fit <- glm(calls ~ outdoor + wind + mix, poisson, town)
write_pmml("poisson", general(fit, "calls", "log"), "calls", "double", predict(fit, fresh, type = "response"))
fit <- glm(I(late == "yes") ~ outdoor + wind + mix, binomial, town)
p <- predict(fit, fresh, type = "response")
write_pmml("logistic", general(fit, "late", "logit", "yes", "no", "classification"), "late", "string",
  ifelse(p > 0.5, "yes", "no"), cbind(yes = p, no = 1 - p))

# Multinomial logistic regression as tables with softmax.
fit <- multinom(fault ~ outdoor + wind + mix, town, trace = FALSE)
b <- rbind(0, coef(fit))
rownames(b) <- fit$lev
write_pmml("multinomial", tag("RegressionModel", functionName = "classification", normalizationMethod = "softmax",
  body = c(schema("fault"), outputs("fault", fit$lev), sapply(fit$lev, function(l) tag("RegressionTable",
    intercept = g(b[l, "(Intercept)"]), targetCategory = l, body = c(
      tag("NumericPredictor", name = "outdoor", coefficient = g(b[l, "outdoor"])),
      tag("NumericPredictor", name = "wind", coefficient = g(b[l, "wind"])),
      tag("CategoricalPredictor", name = "mix", value = "old-town", coefficient = g(b[l, "mixold-town"])),
      tag("CategoricalPredictor", name = "mix", value = "works", coefficient = g(b[l, "mixworks"]))))))),
  "fault", "string", predict(fit, fresh), predict(fit, fresh, type = "probs"))

# Trees, of numbers and of classes, and a mean of several.
tree <- function(fit, classes = NULL) {
  f <- fit$frame
  ids <- as.integer(rownames(f))
  labels <- labels(fit, minlength = 0, collapse = FALSE)
  ask <- function(i) {
    if (ids[i] == 1) return("<True/>")
    parent <- which(ids == ids[i] %/% 2)
    field <- as.character(f$var[parent])
    text <- labels[parent, if (ids[i] %% 2 == 0) 1 else 2]
    split <- fit$splits
    at <- sum((f$ncompete + f$nsurrogate + 1)[seq_len(parent - 1)][f$var[seq_len(parent - 1)] != "<leaf>"]) + 1
    if (field == "mix") {
      side <- fit$csplit[split[at, "index"], ]
      levels <- attr(fit, "xlevels")$mix[side == if (ids[i] %% 2 == 0) 1 else 3]
      return(tag("SimpleSetPredicate", field = field, booleanOperator = "isIn",
        body = tag("Array", n = length(levels), type = "string", body = paste0("\"", levels, "\"", collapse = " "))))
    }
    left <- (ids[i] %% 2 == 0) == (split[at, "ncat"] < 0)
    tag("SimplePredicate", field = field, operator = if (left) "lessThan" else "greaterOrEqual",
      value = g(split[at, "index"]))
  }
  walk <- function(id) {
    i <- which(ids == id)
    score <- if (is.null(classes)) g(f$yval[i]) else classes[f$yval[i]]
    shares <- if (is.null(classes)) NULL else sapply(seq_along(classes), function(k) tag("ScoreDistribution",
      value = classes[k], recordCount = f$yval2[i, 1 + k]))
    tag("Node", id = id, score = score, recordCount = f$n[i], body = c(ask(i), shares,
      if (f$var[i] == "<leaf>") NULL else c(walk(2 * id), walk(2 * id + 1))))
  }
  walk(1)
}
fit <- rpart(demand ~ outdoor + wind + mix, town, cp = 0.001)
one <- function(fit) tag("TreeModel", functionName = "regression", splitCharacteristic = "binarySplit",
  body = c(schema("demand"), tree(fit)))
write_pmml("tree", one(fit), "demand", "double", predict(fit, fresh))
fits <- lapply(1:12, function(i) rpart(demand ~ outdoor + wind + mix, town[sample(n, replace = TRUE), ], cp = 0.002))
write_pmml("forest", tag("MiningModel", functionName = "regression", body = c(schema("demand"),
  tag("Segmentation", multipleModelMethod = "average", body = sapply(fits, function(f) tag("Segment",
    body = c("<True/>", one(f))))))), "demand", "double", rowMeans(sapply(fits, predict, fresh)))
fit <- rpart(fault ~ outdoor + wind + mix, town, cp = 0.001)
write_pmml("classes", tag("TreeModel", functionName = "classification", splitCharacteristic = "binarySplit",
  body = c(schema("fault"), outputs("fault", attr(fit, "ylevels")), tree(fit, attr(fit, "ylevels")))), "fault",
  "string", predict(fit, fresh, type = "class"), predict(fit, fresh))

# A neural network with one hidden layer on scaled inputs, as nnet lays its weights out.
x <- with(town, cbind((outdoor - 2) / 8, wind / 10, mix == "works"))
fit <- nnet(x, town$demand / 30, size = 4, linout = TRUE, trace = FALSE, maxit = 300)
w <- matrix(fit$wts[1:16], 4)
v <- fit$wts[17:21]
input <- function(id, body) tag("NeuralInput", id = id, body = tag("DerivedField", optype = "continuous",
  dataType = "double", body = body))
norm <- function(field, x0, y0, x1, y1) tag("NormContinuous", field = field, body = c(
  tag("LinearNorm", orig = x0, norm = g(y0)), tag("LinearNorm", orig = x1, norm = g(y1))))
neuron <- function(id, bias, from, by) tag("Neuron", id = id, bias = g(bias), body = mapply(function(f, b)
  tag("Con", from = f, weight = g(b)), from, by))
inputs <- c("i1", "i2", "i3")
write_pmml("network", tag("NeuralNetwork", functionName = "regression", activationFunction = "logistic", body = c(
  schema("demand"), tag("NeuralInputs", body = c(input("i1", norm("outdoor", 2, 0, 10, 1)),
    input("i2", norm("wind", 0, 0, 10, 1)), input("i3", tag("NormDiscrete", field = "mix", value = "works")))),
  tag("NeuralLayer", body = sapply(1:4, function(k) neuron(paste0("h", k), w[1, k], inputs, w[2:4, k]))),
  tag("NeuralLayer", activationFunction = "identity", body = neuron("o", v[1], paste0("h", 1:4), v[2:5])),
  tag("NeuralOutputs", body = tag("NeuralOutput", outputNeuron = "o", body = tag("DerivedField",
    optype = "continuous", dataType = "double", body = norm("demand", 0, 0, 30, 1)))))), "demand", "double",
  drop(predict(fit, with(fresh, cbind((outdoor - 2) / 8, wind / 10, mix == "works")))) * 30)

# Clusters.
fit <- kmeans(town[, c("outdoor", "wind")], 5)
near <- apply(fresh[, c("outdoor", "wind")], 1, function(p) which.min(colSums((t(fit$centers) - p)^2)))
write_pmml("clusters", tag("ClusteringModel", functionName = "clustering", modelClass = "centerBased",
  numberOfClusters = 5, body = c(tag("MiningSchema", body = sapply(c("outdoor", "wind", "mix"), function(f)
    tag("MiningField", name = f))), tag("ComparisonMeasure", kind = "distance", body = "<squaredEuclidean/>"),
    sapply(c("outdoor", "wind"), function(f) tag("ClusteringField", field = f)), sapply(1:5, function(k)
      tag("Cluster", id = k, body = tag("Array", n = 2, type = "real", body = paste(g(fit$centers[k, ]),
        collapse = " ")))))), "none", "string", as.character(near))
