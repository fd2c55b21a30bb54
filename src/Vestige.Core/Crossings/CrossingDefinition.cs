using System.Text.Json.Serialization;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;

namespace Vestige.Core.Crossings;

/// <summary>What a person says about a crossing: the same document on the page, in the API and in files.</summary>
/// <param name="Name">A slug, unique among crossings.</param>
/// <param name="Purpose">Only <c>copy</c> so far.</param>
/// <param name="Source">The name of a connection.</param>
/// <param name="Target">The name of another connection.</param>
/// <param name="Tables">Which tables cross.</param>
/// <param name="Start">How it begins; null for the defaults.</param>
/// <param name="Apply">How tables are applied: the last rule that matches decides; without one, as <see cref="ApplyMode.Upsert"/>.</param>
/// <param name="Naming">What tables are called on the target; null for the same names.</param>
/// <param name="Treatment">What happens to rows on the way, in order.</param>
/// <param name="Structure">Statements of a person's own that make tables of the target.</param>
/// <param name="Schedule">When it runs; null for always.</param>
/// <param name="Rest">Windows in which nothing is applied.</param>
/// <param name="ChangesPerSecond">
/// The most changes applied a second, so that catching up does not crush the target; null for no limit. Initial loads are not held by it.
/// </param>
/// <param name="Tags">Words by which several crossings are found and steered at once.</param>
/// <param name="Reconcile">How both sides are compared all the time; null for only when asked.</param>
/// <param name="Quarantine">How many refused rows may wait while it continues; null to stop at the first.</param>
/// <param name="LoadLagSeconds">
/// How late the other tables may be before a load beside them is slowed, in seconds; null for 1.
/// </param>
/// <param name="SchemaChanges">
/// What becomes of tables whose schema changes: see <see cref="OnSchemaChange(TableName, SchemaChange)"/>.
/// </param>
public sealed record CrossingDefinition(
    string Name,
    string Purpose,
    string Source,
    string Target,
    TableRules Tables,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] StartOptions? Start = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<ApplyRule>? Apply = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] Naming? Naming = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<TreatmentStep>? Treatment = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<TableStatement>? Structure = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] QuarantineRule? Quarantine = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] RunSchedule? Schedule = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<RestWindow>? Rest = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? ChangesPerSecond = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? Tags = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] ReconcileRule? Reconcile = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<SchemaChangeRule>? SchemaChanges = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? LoadLagSeconds = null
)
{
    public const string Copy = "copy";

    /// <summary>
    /// A crossing that copies tables of this one once, as they were at a place in the past, with the same treatment and names.
    /// </summary>
    /// <param name="name">Its name.</param>
    /// <param name="target">The connection that gets the rows.</param>
    /// <param name="tables">The source's tables.</param>
    /// <param name="place">As of where.</param>
    /// <param name="into">The schema on the target for all of them; null for what the names of this one say.</param>
    public CrossingDefinition AsOf(string name, string target, IReadOnlyList<TableName> tables, StartPlace place, string? into) =>
        new(
            name,
            Copy,
            Source,
            target,
            new TableRules([.. tables.Select(table => new TableRule(Take: table.ToString()))]),
            new StartOptions(Kind: StartKind.Rows, AsOf: place),
            Apply,
            into is null ? Naming : (Naming ?? new Naming()) with { Into = into, Schemas = null },
            Treatment
        );

    /// <summary>Whether a moment lies in a window in which nothing is applied.</summary>
    public bool RestsAt(DateTimeOffset moment) => Rest?.Any(window => window.EndAt(moment) is not null) == true;

    /// <summary>How a table of the source is applied.</summary>
    public ApplyMode AppliedAs(TableName table) => ApplyRuleOf(table)?.As ?? ApplyMode.Upsert;

    /// <summary>The rule that decides how a table is applied; null when none matches.</summary>
    public ApplyRule? ApplyRuleOf(TableName table)
    {
        if (Apply is null)
        {
            return null;
        }

        var name = table.ToString();
        return Apply.LastOrDefault(rule => TablePattern.Matches(rule.Tables, name));
    }

    /// <summary>
    /// What becomes of a table when this is done to it at the source. The last rule that matches decides. One that names no kinds is for
    /// all: what only adds, or renames, is made on the target, and what could lose values there, or keeps writes out, is not.
    /// </summary>
    public SchemaChangeAction OnSchemaChange(TableName table, SchemaChange change)
    {
        ArgumentNullException.ThrowIfNull(change);
        var rule = SchemaChangeRuleFor(table, change.Kind);
        return rule switch
        {
            { Kinds: not null } => rule.As,
            { As: SchemaChangeAction.Hold or SchemaChangeAction.Stop }
                when change.KeepsOut || change.Kind is SchemaChangeKind.DefaultChanged or SchemaChangeKind.ConstraintAdded =>
                SchemaChangeAction.LeaveOut,
            { As: SchemaChangeAction.Hold or SchemaChangeAction.Stop } => rule.As,
            _ => OnSchemaChange(change),
        };
    }

    /// <summary>Whether indexes and constraints that are added at the source are built on the target.</summary>
    public bool BuildsConstraints(TableName table) =>
        OnSchemaChange(table, new SchemaChange(SchemaChangeKind.ConstraintAdded, "")) == SchemaChangeAction.Carry;

    /// <summary>Whether a table that would wait for a person is loaded again instead.</summary>
    public bool ReloadsOnSchemaChange(TableName table) => SchemaChangeRuleFor(table, null)?.As == SchemaChangeAction.Reload;

    private static SchemaChangeAction OnSchemaChange(SchemaChange change) =>
        change.Kind switch
        {
            SchemaChangeKind.ColumnDropped or SchemaChangeKind.PartDetached => SchemaChangeAction.Hold,
            SchemaChangeKind.NullabilityChanged when change.KeepsOut => SchemaChangeAction.LeaveOut,
            SchemaChangeKind.ConstraintAdded => SchemaChangeAction.LeaveOut,
            _ => SchemaChangeAction.Carry,
        };

    /// <summary>The rule for a kind, or for null the one for all kinds.</summary>
    private SchemaChangeRule? SchemaChangeRuleFor(TableName table, SchemaChangeKind? kind)
    {
        if (SchemaChanges is null)
        {
            return null;
        }

        var name = table.ToString();
        return SchemaChanges.LastOrDefault(rule =>
            TablePattern.Matches(rule.Tables, name)
            && (rule.Kinds is not { Count: > 0 } kinds || (kind is { } one && kinds.Contains(one)))
        );
    }

    /// <summary>How late the other tables may be before a load beside them is slowed.</summary>
    [JsonIgnore]
    public TimeSpan LoadLag => TimeSpan.FromSeconds(LoadLagSeconds ?? 1);

    /// <summary>What it carries.</summary>
    [JsonIgnore]
    public StartKind Kind => Start?.Kind ?? StartKind.RowsThenChanges;

    /// <summary>Whether it ends by itself once the target has what it is to have.</summary>
    [JsonIgnore]
    public bool EndsByItself => Kind is StartKind.Rows or StartKind.Structure;

    /// <summary>The line, holding where it need not hold by itself and a person has accepted it by name.</summary>
    public ReadinessCheck Judge(ReadinessCheck line)
    {
        ArgumentNullException.ThrowIfNull(line);
        return !line.Ok && line.MayAccept && Start?.Accept?.Contains(line.Step) == true
            ? line with
            {
                Ok = true,
                IsWarning = true,
                Found = $"{line.Found}; accepted in the definition",
                Remedy = null,
            }
            : line;
    }

    /// <summary>What a target table that is there already means for a table of the source.</summary>
    public ExistingRows ExistingFor(TableName table)
    {
        if (Kind == StartKind.Changes)
        {
            return ExistingRows.Keep;
        }

        var name = table.ToString();
        return Start?.Tables?.LastOrDefault(rule => TablePattern.Matches(rule.Tables, name))?.Existing
            ?? Start?.Existing
            ?? ExistingRows.Refuse;
    }
}
