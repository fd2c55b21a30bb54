using Vestige.Core.Crossings;
using Vestige.Core.SchemaVersions;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What can be chosen on a form for one kind of schema change.</summary>
/// <param name="Kind">The kind.</param>
/// <param name="Label">When it happens, as the label of the choice.</param>
/// <param name="Actions">What can be done, each in words; the first is what is done where nothing is chosen.</param>
public sealed record ChangeChoice(SchemaChangeKind Kind, string Label, IReadOnlyList<(SchemaChangeAction Action, string Words)> Actions)
{
    private static readonly (SchemaChangeAction, string) Waits = (SchemaChangeAction.Hold, "wait for you");
    private static readonly (SchemaChangeAction, string) Stops = (SchemaChangeAction.Stop, "stop the crossing");

    /// <summary>What is done where nothing is chosen.</summary>
    public SchemaChangeAction Default => Actions[0].Action;

    /// <summary>What is done to changes of a kind where nothing is chosen; those that are no choice are carried.</summary>
    public static SchemaChangeAction DefaultOf(SchemaChangeKind kind) =>
        All.FirstOrDefault(choice => choice.Kind == kind)?.Default ?? SchemaChangeAction.Carry;

    /// <summary>The choices beside that for dropped columns, in the order of the page.</summary>
    public static IReadOnlyList<ChangeChoice> All { get; } =
    [
        Of(SchemaChangeKind.ColumnAdded, "When the source adds a column", "add it on the target", "do not replicate it"),
        Of(SchemaChangeKind.ColumnRenamed, "When it renames a column", "rename it on the target", "keep the old name on the target"),
        Of(SchemaChangeKind.TypeChanged, "When it changes the type of a column", "change it on the target", null),
        Of(SchemaChangeKind.DefaultChanged, "When it changes a default", "change it on the target", "keep the target's default"),
        Of(SchemaChangeKind.LabelAdded, "When it adds a value to an enum", "add it on the target", null),
        Of(SchemaChangeKind.ConstraintDropped, "When it drops a constraint", "drop it on the target", "keep it on the target"),
        new ChangeChoice(
            SchemaChangeKind.ConstraintAdded,
            "When it adds an index or a constraint",
            [(SchemaChangeAction.LeaveOut, "leave it out; you can build it later"), (SchemaChangeAction.Carry, "build it on the target")]
        ),
        new ChangeChoice(
            SchemaChangeKind.PartDetached,
            "When it detaches, drops or truncates a partition",
            [
                Waits,
                (SchemaChangeAction.Carry, "delete its rows on the target"),
                (SchemaChangeAction.LeaveOut, "keep its rows on the target"),
                Stops,
            ]
        ),
    ];

    private static ChangeChoice Of(SchemaChangeKind kind, string label, string carried, string? leftOut)
    {
        (SchemaChangeAction, string)[] leaves = leftOut is null ? [] : [(SchemaChangeAction.LeaveOut, leftOut)];
        return new ChangeChoice(kind, label, [(SchemaChangeAction.Carry, carried), Waits, .. leaves, Stops]);
    }
}
