using System.Globalization;
using Vestige.Core.Connections;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Drills;

/// <summary>The drills of a stand-in as a page offers them.</summary>
/// <param name="open">The stand-in, which is opened when it is first used.</param>
public sealed class DrillPanel(Func<StandInDatabase> open) : IDrills
{
    private const string Line = "line";
    private const string Reader = "reader";
    private const string Delay = "delay";
    private const string Refuse = "refuse";
    private const string Allow = "allow";
    private const string Fill = "fill";
    private const string On = "on";
    private const string Milliseconds = "milliseconds";
    private const string Table = "table";
    private const string Key = "key";
    private const int LongestDelay = 10_000;

    public IReadOnlyList<Drill> All
    {
        get
        {
            var drills = open().Drills;
            return
            [
                Switch(
                    Line,
                    "Cut the connection: nothing reaches the database; the bench, at the server, still does.",
                    "Cut the connection",
                    "Restore the connection",
                    drills.ConnectionCut
                ),
                Switch(
                    Reader,
                    "Stop the log reader: statements go on, the log cannot be read.",
                    "Stop the reader",
                    "Let it read",
                    drills.ReaderStopped
                ),
                DelayOf(drills),
                RefuseARow(),
                .. drills.Refused.Select(TakeAgain),
                new Drill(Fill, "Fill the log to its limit: the oldest of it is dropped, read or not.", "Fill the log")
                {
                    IsDestructive = true,
                },
            ];
        }
    }

    public async Task<string> SetAsync(string drill, IReadOnlyDictionary<string, string> values, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(values);
        var database = open();
        switch (drill)
        {
            case Line:
                database.Drills.ConnectionCut = IsOn(values);
                return database.Drills.ConnectionCut ? "The connection is cut (drill)." : "The connection is restored.";
            case Reader:
                database.Drills.ReaderStopped = IsOn(values);
                return database.Drills.ReaderStopped ? "The log reader is stopped (drill)." : "The log can be read again.";
            case Delay:
                return SetDelay(database.Drills, values.GetValueOrDefault(Milliseconds));
            case Refuse:
                return await RefuseAsync(database, values.GetValueOrDefault(Table), values.GetValueOrDefault(Key), cancellation);
            case Allow:
                return TakeAgain(database.Drills, values.GetValueOrDefault(Table) ?? "", values.GetValueOrDefault(Key) ?? "");
            case Fill:
                await database.FillLogAsync(cancellation);
                return "The log was filled to its limit; the oldest of it is dropped (drill).";
            default:
                throw new RequestRefusedException($"There is no drill '{drill}'.")
                {
                    Remedy = $"Use {Line}, {Reader}, {Delay}, {Refuse}, {Allow} or {Fill}.",
                };
        }
    }

    private static Drill Switch(string name, string says, string begin, string end, bool isOn) =>
        new(name, says, isOn ? end : begin)
        {
            IsOn = isOn,
            Values = new Dictionary<string, string> { [On] = isOn ? "false" : "true" },
        };

    private static Drill DelayOf(StandInDrills drills) =>
        new(Delay, "", "Set the delay")
        {
            IsOn = drills.Delay > TimeSpan.Zero,
            Fields =
            [
                new SettingField(Milliseconds, "Delay each call, ms (0 to 10 000)")
                {
                    Type = SettingType.Number,
                    Most = LongestDelay,
                    Default = ((int)drills.Delay.TotalMilliseconds).ToString(CultureInfo.InvariantCulture),
                },
            ],
        };

    private static Drill RefuseARow() =>
        new(Refuse, "Refuse to write a row", "Refuse it")
        {
            Fields =
            [
                new SettingField(Table, "Table of the row to refuse") { IsName = true, Example = "table" },
                new SettingField(Key, "Key of the row to refuse") { IsName = true, Example = "key" },
            ],
        };

    private static Drill TakeAgain(RefusedRow row) =>
        new(Allow, $"Row {row.Key} of {row.Table} is refused.", "Take it again")
        {
            IsOn = true,
            Values = new Dictionary<string, string> { [Table] = row.Table, [Key] = row.Key },
        };

    private static bool IsOn(IReadOnlyDictionary<string, string> values) =>
        values.GetValueOrDefault(On) switch
        {
            "true" => true,
            "false" => false,
            var other => throw new RequestRefusedException($"'{other}' is neither true nor false.")
            {
                Remedy = $"Give {On} as true or false.",
            },
        };

    private static string SetDelay(StandInDrills drills, string? given)
    {
        if (!int.TryParse(given, NumberStyles.None, CultureInfo.InvariantCulture, out var milliseconds) || milliseconds > LongestDelay)
        {
            throw new RequestRefusedException($"A delay of '{given}' ms cannot be set.") { Remedy = "Use 0 to 10 000." };
        }

        drills.Delay = TimeSpan.FromMilliseconds(milliseconds);
        return milliseconds == 0 ? "Calls are not delayed any more." : $"Each call is delayed by {milliseconds} ms (drill).";
    }

    /// <summary>The tables are read at the server itself, so that a drill can be set while another is on.</summary>
    private static async Task<string> RefuseAsync(StandInDatabase database, string? table, string? key, CancellationToken cancellation)
    {
        var there = await database.ReadTablesAtServerAsync(cancellation);
        var known = there
            .FirstOrDefault(candidate => candidate.Schema.Name.Name == table || candidate.Schema.Name.ToString() == table)
            ?.Schema.Name
            ?? throw new RequestRefusedException($"There is no table {table} in {database.Name}.") { Remedy = "Give one of its tables." };
        if (string.IsNullOrEmpty(key))
        {
            throw new RequestRefusedException("There is no key.") { Remedy = "Give the key of the row to refuse." };
        }

        database.Drills.Refuse(new RefusedRow(known.Name, key));
        return $"Row {key} of {known} is refused (drill).";
    }

    private static string TakeAgain(StandInDrills drills, string table, string key)
    {
        drills.Allow(new RefusedRow(table, key));
        return $"Row {key} of {table} is taken again.";
    }
}
