using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Engine.Tests.Ports;

public sealed class TableProgressTests
{
    private static readonly TableProgress Loaded = new(new TableName("s", "t"), Loaded: true, new LogPosition(5), Fingerprint: "f");

    [Fact]
    public void What_holds_a_table_says_what_happened_and_what_agreeing_runs()
    {
        const string Statements = "ALTER TABLE \"t\" DROP COLUMN \"If you agree, x.\"; ALTER TABLE t ADD c";
        var what = HeldCause.With("The table was changed: a; b.", Statements);
        var held = Loaded.HeldAt(new LogPosition(9), what, new LogPosition(8));
        Assert.Equal("The table was changed: a; b.", HeldCause.WhatOf(held.HeldCause!));
        Assert.Equal(Statements, HeldCause.StatementsOf(held.HeldCause!));
        var refused = Loaded.HeldAt(new LogPosition(9), "The target refuses.", new LogPosition(8));
        Assert.Equal("The target refuses.", HeldCause.WhatOf(refused.HeldCause!));
        Assert.Equal("", HeldCause.StatementsOf(refused.HeldCause!));
        var lasting = Loaded.HeldAt(new LogPosition(9), what, null);
        Assert.EndsWith("Load it again to continue.", lasting.HeldCause, StringComparison.Ordinal);
        Assert.Equal("", HeldCause.StatementsOf(lasting.HeldCause!));
    }

    [Fact]
    public void A_table_that_is_agreed_to_continues_from_where_its_rows_stand()
    {
        var held = Loaded.HeldAt(new LogPosition(9), "It was changed.", new LogPosition(8));
        var progress = new TargetProgress(null, new LogPosition(20), [held]);
        Assert.True(held.Held);
        Assert.Equal((new LogPosition(20), new LogPosition(8)), (progress.NeededAfter, progress.WantedAfter));
        var agreed = held.Agreed();
        Assert.False(agreed.Held);
        Assert.False(agreed.IsInStream);
        Assert.Equal(
            (new LogPosition(8), new LogPosition(8), new LogPosition(9)),
            (agreed.Position, agreed.Reached!.Value, agreed.AgreedUpTo!.Value)
        );
        progress = progress with { Tables = [agreed] };
        Assert.Equal((new LogPosition(8), (LogPosition?)null), (progress.NeededAfter, progress.WantedAfter));
        Assert.Equal(Loaded.Anew(), agreed.Anew());
    }

    /// <summary>Positions of one table are kept as offsets on one branch.</summary>
    [Fact]
    public void A_table_that_was_held_on_another_branch_is_to_be_loaded_again() =>
        Assert.Null(Loaded.HeldAt(new LogPosition(1, 9), "It was changed.", new LogPosition(8)).Reached);
}
