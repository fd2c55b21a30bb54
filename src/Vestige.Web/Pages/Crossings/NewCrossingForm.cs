using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Vestige.Web.Definitions;

namespace Vestige.Web.Pages.Crossings;

/// <summary>
/// What stands on the New crossing page. Rules are typed; what is ticked or unticked by hand differs from them and becomes
/// rules of single tables after them.
/// </summary>
public sealed class NewCrossingForm
{
    public string? Name { get; set; }

    public string? Source { get; set; }

    public string? Target { get; set; }

    public ExistingRows Existing { get; set; }

    public StartKind Kind { get; set; }

    /// <summary>Where only changes cross: the position or time after which they are taken; empty for now.</summary>
    public string? From { get; set; }

    /// <summary>Lines that do not hold and are accepted, by name.</summary>
    public List<string> Accept { get; set; } = [];

    /// <summary>The rules as typed, one a line.</summary>
    public string? Rules { get; set; }

    /// <summary>The typed rules when the list was last drawn.</summary>
    public string? Was { get; set; }

    /// <summary>What had been ticked by hand when the list was last drawn, as rules.</summary>
    public string? Hand { get; set; }

    /// <summary>Tables made later are taken by themselves.</summary>
    public bool Future { get; set; }

    /// <summary>Tables whose schema changes in a way that cannot be carried are loaded again by themselves.</summary>
    public bool Reloads { get; set; }

    /// <summary>What becomes of the target's column when the source drops it: waits for a person, dropped, or left out.</summary>
    public SchemaChangeAction Dropped { get; set; } = SchemaChangeAction.Hold;

    /// <summary>What becomes of other changes of tables, by kind; what is not named goes by <see cref="ChangeChoice.DefaultOf"/>.</summary>
    public Dictionary<SchemaChangeKind, SchemaChangeAction> Changes { get; set; } = [];

    /// <summary>The tables in the list that are ticked.</summary>
    public List<string> Tables { get; set; } = [];

    /// <summary>The tables that were in the list.</summary>
    public List<string> Shown { get; set; } = [];

    /// <summary>What the list is narrowed to.</summary>
    public string? Find { get; set; }

    /// <summary>Patterns of tables of which only inserts are wanted, with commas between.</summary>
    public string? InsertOnly { get; set; }

    /// <summary>Tables in the list that can be replicated by their inserts only, and are to be.</summary>
    public List<string> InsertsOf { get; set; } = [];

    /// <summary>The tables in the list that can be replicated by their inserts only.</summary>
    public List<string> InsertsShown { get; set; } = [];

    /// <summary>Patterns of tables whose deleted rows stay, with commas between.</summary>
    public string? KeepDeleted { get; set; }

    /// <summary>Patterns of tables of which every version stays, with commas between.</summary>
    public string? KeepVersions { get; set; }

    public string? Into { get; set; }

    public string? Prefix { get; set; }

    public string? Suffix { get; set; }

    public bool SchemaAsPrefix { get; set; }

    public LetterCase Case { get; set; }

    /// <summary>The steps as text.</summary>
    public string? Treatment { get; set; }

    /// <summary>The fields for the rows of one table.</summary>
    public TableChoicesForm Choices { get; set; } = new();

    /// <summary>Statements of one's own for tables of the target, as text.</summary>
    public string? Structure { get; set; }

    /// <summary>The table whose rows are shown before and after.</summary>
    public string? Sample { get; set; }

    /// <summary>The values of a row typed in, by the table's columns.</summary>
    public List<string?> Typed { get; set; } = [];

    /// <summary>The rules of single tables, with what was ticked or unticked since the list was drawn.</summary>
    public IReadOnlyList<TableRule> ByHand()
    {
        var typed = new TableRules(RulesText.Read(Rules));
        var before = new TableRules([.. RulesText.Read(Was), .. RulesText.Read(Hand)]);
        var hand = RulesText.Read(Hand).ToDictionary(rule => rule.Pattern);
        var ticked = Tables.ToHashSet();
        foreach (var name in Shown.Union(Tables).Where(name => Names(name) is { } table && before.Takes(table) != ticked.Contains(name)))
        {
            hand.Remove(name);
            if (typed.Takes(Names(name)!.Value) != ticked.Contains(name))
            {
                hand.Add(name, ticked.Contains(name) ? new TableRule(Take: name) : new TableRule(Leave: name));
            }
        }

        return [.. hand.Values];
    }

    /// <summary>
    /// Puts what was ticked or unticked as "inserts only" into <see cref="InsertOnly"/>, and takes or leaves those tables; whether
    /// anything was.
    /// </summary>
    public bool TakeInserts()
    {
        List<string> patterns = [.. Patterns(InsertOnly)];
        var changed = InsertsShown.Where(name => patterns.Contains(name) != InsertsOf.Contains(name)).ToList();
        foreach (var name in changed)
        {
            if (patterns.Remove(name))
            {
                Shown.Add(name);
            }
            else
            {
                patterns.Add(name);
                Tables.Add(name);
            }
        }

        InsertOnly = string.Join(", ", patterns);
        return changed.Count > 0;
    }

    /// <summary>Whether a table that otherwise cannot be replicated is one of which only inserts are wanted, by its own name.</summary>
    public bool IsInsertsOnly(TableDescription table)
    {
        ArgumentNullException.ThrowIfNull(table);
        return Patterns(InsertOnly).Contains(table.Schema.Name.ToString());
    }

    /// <summary>The definition that all of it comes to.</summary>
    /// <param name="there">The source's tables.</param>
    /// <param name="treatment">The steps as read.</param>
    public CrossingDefinition Definition(IReadOnlyList<TableDescription> there, TreatmentText treatment)
    {
        ArgumentNullException.ThrowIfNull(there);
        ArgumentNullException.ThrowIfNull(treatment);
        return new CrossingDefinition(
            Name ?? "",
            CrossingDefinition.Copy,
            Source ?? "",
            Target ?? "",
            new TableRules(AllRules(there), Future),
            new StartOptions(
                Existing,
                Kind,
                Accept: Accept.Count == 0 ? null : Accept,
                From: Kind == StartKind.Rows ? null : PlaceText.Read(From),
                AsOf: Kind == StartKind.Rows ? PlaceText.Read(From) : null
            ),
            Apply().ToList() is { Count: > 0 } apply ? apply : null,
            Naming(),
            treatment.Steps.Count == 0 ? null : treatment.Steps,
            StructureText.Read(Structure).Statements is { Count: > 0 } own ? own : null,
            SchemaChanges: SchemaChanges() is { Count: > 0 } rules ? rules : null
        );
    }

    private List<SchemaChangeRule> SchemaChanges()
    {
        var rules = new List<SchemaChangeRule>();
        if (Reloads)
        {
            rules.Add(new SchemaChangeRule("*", SchemaChangeAction.Reload));
        }

        if (Dropped is SchemaChangeAction.Carry or SchemaChangeAction.LeaveOut)
        {
            rules.Add(new SchemaChangeRule("*", Dropped, [SchemaChangeKind.ColumnDropped]));
        }

        var others = Changes.Where(pair => pair.Value != ChangeChoice.DefaultOf(pair.Key)).GroupBy(pair => pair.Value, pair => pair.Key);
        rules.AddRange(others.OrderBy(kinds => kinds.Key).Select(kinds => new SchemaChangeRule("*", kinds.Key, [.. kinds.Order()])));

        return rules;
    }

    private static TableName? Names(string name) => Vestige.Core.Treatments.Names.Parse(name);

    /// <summary>Where all tables were ticked and nothing was typed, a rule a schema says it shorter.</summary>
    private IReadOnlyList<TableRule> AllRules(IReadOnlyList<TableDescription> there)
    {
        var (typed, hand) = (RulesText.Read(Rules), ByHand());
        var rules = new TableRules([.. typed, .. hand]);
        var crossing = there.Where(Crosses).ToList();
        return
            typed.Count == 0
            && crossing.Count > 1
            && crossing.All(table => rules.Takes(table.Schema.Name))
            && there.Where(table => !Crosses(table)).All(table => !rules.Takes(table.Schema.Name))
            ?
            [
                .. crossing.Select(table => table.Schema.Name.Schema).Distinct().Select(schema => new TableRule(Take: $"{schema}.*")),
                .. there.Where(table => !Crosses(table)).Select(table => new TableRule(Leave: table.Schema.Name.ToString())),
            ]
            : rules.Rules;
    }

    /// <summary>Whether a table can cross as it would be applied.</summary>
    public bool Crosses(TableDescription table)
    {
        ArgumentNullException.ThrowIfNull(table);
        var name = table.Schema.Name.ToString();
        return table.CrossesAs(Apply().LastOrDefault(rule => TablePattern.Matches(rule.Tables, name))?.As ?? ApplyMode.Upsert);
    }

    private IEnumerable<ApplyRule> Apply() =>
        [
            .. Patterns(InsertOnly).Select(pattern => new ApplyRule(pattern, ApplyMode.InsertOnly)),
            .. Patterns(KeepDeleted).Select(pattern => new ApplyRule(pattern, ApplyMode.KeepDeleted)),
            .. Patterns(KeepVersions).Select(pattern => new ApplyRule(pattern, ApplyMode.KeepVersions)),
        ];

    private static string[] Patterns(string? text) =>
        (text ?? "").Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);

    private Naming? Naming() =>
        string.IsNullOrEmpty(Into)
        && string.IsNullOrEmpty(Prefix)
        && string.IsNullOrEmpty(Suffix)
        && !SchemaAsPrefix
        && Case == LetterCase.AsIs
            ? null
            : new Naming(null, Blank(Into), SchemaAsPrefix, Blank(Prefix), Blank(Suffix), Case);

    private static string? Blank(string? text) => string.IsNullOrEmpty(text) ? null : text;
}
