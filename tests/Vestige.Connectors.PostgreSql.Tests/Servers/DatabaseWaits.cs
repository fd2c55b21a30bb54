using Npgsql;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>Waits for what a database is to say.</summary>
internal static class DatabaseWaits
{
    /// <summary>Waits until a question has an answer; a table that it is about may be missing until then.</summary>
    public static async Task UntilAsync(this Database database, string question, string answer)
    {
        for (var began = DateTime.UtcNow; await AskAsync(database, question) != answer; await Task.Delay(50))
        {
            Assert.True(DateTime.UtcNow - began < Crossing.Patience, question);
        }
    }

    private static async Task<string?> AskAsync(Database database, string question)
    {
        try
        {
            return await database.PollAsync(question);
        }
        catch (PostgresException exception) when (exception.SqlState == PostgresErrorCodes.UndefinedTable)
        {
            return null;
        }
    }
}
