using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Tracing;
using Vestige.Web.Connections;
using Vestige.Web.Tracing;

namespace Vestige.Web.Pages;

/// <summary>What happened to this row or transaction, at each hop, when?</summary>
public class TraceModel(CrossingEngine engine, ConnectionDirectory connections, Catalogues catalogues) : PageModel
{
    /// <summary>The sources that are read, or could be.</summary>
    public IReadOnlyList<string> Sources { get; private set; } = [];

    public string Connection { get; private set; } = "";

    public string Table { get; private set; } = "";

    public string Key { get; private set; } = "";

    public string Position { get; private set; } = "";

    public IReadOnlyList<string> Tables { get; private set; } = [];

    public Trace? Trace { get; private set; }

    public string? Problem { get; private set; }

    public TimeSpan Took { get; private set; }

    /// <summary>
    /// By crossing that carries the table: why the row is where it is, the row on both sides, and what repairs did to it.
    /// </summary>
    public IReadOnlyList<(CrossingStatus Crossing, string Answer, RowSides? Sides, IReadOnlyList<RowRepair> Repairs)> Answers
    {
        get;
        private set;
    } = [];

    public async Task<IActionResult> OnGetAsync(
        string? connection,
        string? table,
        string? key,
        string? position,
        CancellationToken cancellation
    )
    {
        Sources = [.. engine.Statuses.Select(status => status.Definition.Source).Distinct().Order(StringComparer.Ordinal)];
        Connection = connection ?? (Sources.Count > 0 ? Sources[0] : "");
        (Table, Key, Position) = (table ?? "", key ?? "", position ?? "");
        Tables =
        [
            .. engine
                .Statuses.Where(status => status.Definition.Source == Connection)
                .SelectMany(status => status.Tables)
                .Select(one => one.Source.ToString())
                .Distinct()
                .Order(StringComparer.Ordinal),
        ];
        try
        {
            await FindAsync(cancellation);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or FormatException)
        {
            Problem = exception.Message;
        }

        return Page();
    }

    /// <summary>A position in the source's notation, grouped where it is a number.</summary>
    public string Format(LogPosition? position) => position is { } at ? Figures.Position(Plain(at)) : "–";

    /// <summary>A position as the source takes it.</summary>
    public string Plain(LogPosition position) => connections.Source(Connection).Log.Format(position);

    /// <summary>The columns of a form that are hidden.</summary>
    public IReadOnlySet<string> MaskedOf(TableSchema form) => engine.Trace.MaskedColumns(Connection, form);

    private async Task FindAsync(CancellationToken cancellation)
    {
        var began = TimeProvider.System.GetTimestamp();
        if (Position.Length > 0)
        {
            var place = engine.Positions.Parse(
                Connection,
                Position.Replace(Figures.Thin.ToString(), "", StringComparison.Ordinal).Replace(" ", "", StringComparison.Ordinal)
            ) ?? throw new FormatException($"'{Position}' is not a position of {Connection}.");
            Trace = await engine.Trace.TransactionAsync(Connection, place, cancellation);
        }
        else if (Table.Length > 0)
        {
            var name = TableName.Parse(Table = WholeName());
            if (await KeyProblemAsync(name, cancellation) is { } problem)
            {
                throw new FormatException(problem);
            }

            Trace = await engine.Trace.RowAsync(Connection, name, KeyValues(), cancellation);
        }

        Took = TimeProvider.System.GetElapsedTime(began);
        if (Trace?.Table is { } traced)
        {
            Answers = await AnswersAsync(traced, cancellation);
        }
    }

    /// <summary>The table with its schema, which may be left out where only one table has the name.</summary>
    private string WholeName()
    {
        if (Tables.Contains(Table))
        {
            return Table;
        }

        var named = Tables.Where(name => TableName.Parse(name).Name == Table).ToList();
        return named.Count switch
        {
            1 => named[0],
            0 => Table,
            _ => throw new FormatException($"Several tables are called {Table}: {string.Join(", ", named)}. Enter one of them."),
        };
    }

    /// <summary>What is missing of the key; null where nothing is, or where the source cannot be asked.</summary>
    private async Task<string?> KeyProblemAsync(TableName table, CancellationToken cancellation)
    {
        var columns = await KeyColumnsAsync(table, cancellation);
        var values = Key.Length == 0 ? [] : KeyValues();
        if (columns.Count == 0 ? values.Length > 0 : values.Length == columns.Count)
        {
            return null;
        }

        var names = string.Join(", ", columns);
        return columns.Count == 0 ? $"Enter the key of a row of {table}."
            : values.Length < columns.Count
                ? $"The key of {table} is {names}: enter {Figures.Of(columns.Count, "value")}, separated by commas. Missing: "
                    + $"{string.Join(", ", columns.Skip(values.Length))}."
            : $"The key of {table} is {names}: enter {Figures.Of(columns.Count, "value")}, not {Figures.Count(values.Length)}.";
    }

    private async Task<IReadOnlyList<string>> KeyColumnsAsync(TableName table, CancellationToken cancellation)
    {
        try
        {
            var tables = await catalogues.OfAsync(Connection, anew: false, cancellation);
            var form = tables.FirstOrDefault(one => one.Schema.Name == table)?.Schema;
            return form is null ? [] : [.. form.KeyOrdinals.Select(i => form.Columns[i].Name)];
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException)
        {
            return [];
        }
    }

    private string[] KeyValues() => Key.Split(',', StringSplitOptions.TrimEntries);

    private async Task<IReadOnlyList<(CrossingStatus, string, RowSides?, IReadOnlyList<RowRepair>)>> AnswersAsync(
        TableName table,
        CancellationToken cancellation
    )
    {
        var answers = new List<(CrossingStatus, string, RowSides?, IReadOnlyList<RowRepair>)>();
        foreach (
            var status in engine.Statuses.Where(status =>
                status.Definition.Source == Connection && status.State != CrossingState.Draft && status.Definition.Tables.Takes(table)
            )
        )
        {
            var sides = await SidesAsync(status, table, cancellation);
            answers.Add(
                (
                    status,
                    TraceWords.Answer(status, Trace!, sides),
                    sides,
                    await engine.Reconcile.Repairs.OfRowAsync(status.Name, table, KeyValues(), cancellation)
                )
            );
        }

        return answers;
    }

    private async Task<RowSides?> SidesAsync(CrossingStatus status, TableName table, CancellationToken cancellation)
    {
        try
        {
            var into = status.Tables.FirstOrDefault(one => one.Source == table)?.Target ?? table;
            return await RowSides.LookAsync(
                connections.Source(Connection),
                connections.Target(status.Definition.Target),
                engine.TreatmentOf(status.Definition),
                table,
                into,
                Key,
                cancellation
            );
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
            return null;
        }
    }
}
