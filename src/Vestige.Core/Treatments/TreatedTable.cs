using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>One target table of a treatment.</summary>
/// <param name="Schema">Its form on the target, by the target's names.</param>
/// <param name="When">Which rows go into it, asked in the order of the tables; null for all that come so far.</param>
public sealed record TreatedTable(TableSchema Schema, Expression? When);
