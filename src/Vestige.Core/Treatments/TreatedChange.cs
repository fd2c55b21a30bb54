using Vestige.Core.Changes;

namespace Vestige.Core.Treatments;

/// <summary>A change as it is to be applied to one target table. Its rows are in memory of their own.</summary>
public readonly record struct TreatedChange(TreatedTable Table, RowChange Change);
