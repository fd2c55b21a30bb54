using Vestige.Core.Changes;

namespace Vestige.Core.Expressions;

/// <summary>Reckons a value from a row. Throws <see cref="EvaluationException"/> when there is none. Safe for several threads.</summary>
internal delegate Datum Evaluator(Row row);
