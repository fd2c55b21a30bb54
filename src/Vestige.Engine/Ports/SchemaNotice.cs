using System.Text.Json;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Ports;

/// <summary>What a change of the kind <see cref="ChangeKind.Schema"/> says.</summary>
/// <param name="What">What was done to the table, as the end of a sentence, without its full stop.</param>
/// <param name="Values">Whether rows got other values by it without a change of a row in the log.</param>
/// <param name="IsExact">
/// Whether it stands in the log just where it was made, as a source whose log has schema changes tells it: a load before that place cannot
/// hold it.
/// </param>
public sealed record SchemaNotice(string What, bool Values = false, bool IsExact = false)
{
    private const int StepColumns = 4;

    /// <summary>
    /// The steps, where nothing else was done that concerns rows, and each row that was there has in added columns what the form after says
    /// of them (<see cref="Column.Missing"/>); empty where that is not known.
    /// </summary>
    public IReadOnlyList<SchemaChange> Changes { get; init; } = [];

    /// <summary>The table before it, as rows of it are; null where nothing is in <see cref="Changes"/>.</summary>
    public TableSchema? Before { get; init; }

    /// <summary>Whether rows written before and after it are read alike, and that is all that was done.</summary>
    public bool KeepsRows => Changes.Count > 0 && Changes.All(change => change.KeepsRows);

    /// <summary>Stands in what happened where the source itself refuses writes of a table because it is captured.</summary>
    public const string WritesFail = "its updates and deletes fail at the source";

    /// <summary>Read from a change; one that says nothing names no more than that the columns changed.</summary>
    public static SchemaNotice Of(RowChange change)
    {
        var row = change.After;
        var notice = new SchemaNotice(
            row.Count > 0 ? row.TextAt(0) : "its columns changed",
            row.Count > 1 && row.IntegerAt(1) != 0,
            row.Count == 1 || (row.Count >= StepColumns && row.IntegerAt(2) != 0)
        );
        if (row.Count != StepColumns)
        {
            return notice;
        }

        var steps = JsonSerializer.Deserialize<Steps>(row.TextAt(StepColumns - 1))!;
        return notice with { Before = steps.Before, Changes = steps.Changes };
    }

    /// <summary>As the row after of the change.</summary>
    public void Write(RowWriter row)
    {
        ArgumentNullException.ThrowIfNull(row);
        if (Changes.Count > 0)
        {
            row.Begin(StepColumns);
            row.Text(What);
            row.Integer(Values ? 1 : 0);
            row.Integer(IsExact ? 1 : 0);
            row.Text(JsonSerializer.Serialize(new Steps(Before!, Changes)));
            return;
        }

        row.Begin(IsExact ? 1 : 2);
        row.Text(What);
        if (!IsExact)
        {
            row.Integer(Values ? 1 : 0);
        }
    }

    private sealed record Steps(TableSchema Before, IReadOnlyList<SchemaChange> Changes);
}
