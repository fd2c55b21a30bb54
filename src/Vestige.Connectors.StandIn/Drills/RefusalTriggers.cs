using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.StandIn.Drills;

/// <summary>
/// Lets the database itself refuse the rows of a drill, through triggers of the door's connection. Used within the door only.
/// </summary>
internal sealed class RefusalTriggers(StandInDatabase database)
{
    private IReadOnlyList<RefusedRow> inForce = [];
    private int triggers;

    /// <summary>Replaces the triggers when the rows to refuse have changed.</summary>
    public void PutInForce(IReadOnlyList<RefusedRow> wanted)
    {
        if (ReferenceEquals(wanted, inForce))
        {
            return;
        }

        database.Run("CREATE TEMP TABLE IF NOT EXISTS drill_refused (number INTEGER NOT NULL, key TEXT NOT NULL)");
        database.Run("DELETE FROM temp.drill_refused");
        for (var number = 0; number < triggers; number++)
        {
            database.Run($"DROP TRIGGER IF EXISTS temp.drill_insert_{number}");
            database.Run($"DROP TRIGGER IF EXISTS temp.drill_update_{number}");
        }

        var tables = TableCatalogue
            .Read(database.Handle, database.Name)
            .Where(table => table.HasKey)
            .ToDictionary(table => table.Name.Name, StringComparer.OrdinalIgnoreCase);
        triggers = 0;
        foreach (var rows in wanted.Where(row => tables.ContainsKey(row.Table)).GroupBy(row => row.Table))
        {
            Refuse(triggers++, tables[rows.Key], [.. rows.Select(row => row.Key)]);
        }

        inForce = wanted;
    }

    private void Refuse(int number, TableSchema table, List<string> keys)
    {
        using var insert = new Statement(database.Handle, "INSERT INTO temp.drill_refused (number, key) VALUES (?, ?)", database.Name);
        keys.ForEach(key => insert.Bind(1, number).Bind(2, key).Run());
        var column = Quote.Name(table.Columns[table.KeyOrdinals[0]].Name);
        foreach (var verb in new[] { "insert", "update" })
        {
            database.Run(
                $"CREATE TEMP TRIGGER drill_{verb}_{number} BEFORE {verb} ON main.{Quote.Name(table.Name.Name)} "
                    + $"WHEN EXISTS (SELECT 1 FROM temp.drill_refused WHERE number = {number} AND key = CAST(NEW.{column} AS TEXT)) "
                    + "BEGIN SELECT RAISE(ABORT, 'row refused (drill)'); END"
            );
        }
    }
}
