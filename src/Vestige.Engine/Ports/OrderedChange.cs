using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>One change of a transaction, as a sink takes it.</summary>
/// <param name="Ordinal">
/// Which change of its transaction it was made of at the source, from 0; the same whenever it is written again. With the log, the position
/// of the transaction and <paramref name="Number"/> it names the change for ever.
/// </param>
/// <param name="Number">Which of those that were made of that change by its treatment, from 0.</param>
/// <param name="Source">The source's table.</param>
/// <param name="Table">What the sink's table, topic or the like is called, and its columns.</param>
/// <param name="Change">The change; rows before and after as far as the log has them. Its memory stays valid.</param>
public readonly record struct OrderedChange(int Ordinal, int Number, TableName Source, TableSchema Table, RowChange Change);
