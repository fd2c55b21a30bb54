using Xunit;

namespace Vestige.Web.Tests;

/// <summary>This build opens the data folders of earlier ones, and their crossings keep running.</summary>
public sealed class EarlierDataFolderTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <param name="folder">What an installation of its time left behind.</param>
    /// <param name="hash">What it had made of the mail of Ada: it hashes with a key of its own.</param>
    [Theory]
    [InlineData("2026-11-firm-ground", "c20b22014acfc0905bc4b7da049ca2115d96dfdea6eb9e527740067e7927499c")]
    [InlineData("2026-11-structure", "031600135132487e1cf824bdce8660931e04b3ef5c4dad005880ab65b36f3c0d")]
    [InlineData("2026-11-pages", "cfe09eb4609915371271caa722b430de595e27a6656a5043fb0993fc7b806f38")]
    public async Task A_crossing_goes_on_with_the_same_masks_and_what_was_compared_is_still_known(string folder, string hash)
    {
        await using var vestige = await RunningVestige.HostOnCopyAsync(Folder(folder));
        await vestige.WaitAsync("branch-to-copy", status => status.GetProperty("state").GetString() == "following", "following");
        Assert.Equal(1, (await vestige.GetAsync("/api/v1/crossings/branch-to-copy/reconciliations")).GetArrayLength());
        await vestige.BenchAsync(
            "branch",
            "INSERT INTO member VALUES (4, 'Di Penn', 'ada@example.org'); INSERT INTO visit VALUES (3, 4, '2026-11-03')"
        );
        await vestige.WaitAsync(
            "branch-to-copy",
            status =>
                status.GetProperty("tables").EnumerateArray().Sum(table => table.GetProperty("changes").GetProperty("insert").GetInt64())
                == 2,
            "the new rows"
        );

        // The build that made the folder hashed the same value.
        Assert.Equal($"{hash} {hash}", await CopyAsync(vestige, "SELECT group_concat(mail, ' ') FROM member WHERE id IN (1, 4)"));
        Assert.Equal("3", await CopyAsync(vestige, "SELECT count(*) FROM visit"));
        foreach (
            var page in new[]
            {
                "/",
                "/crossings",
                "/crossings/branch-to-copy",
                "/crossings/branch-to-copy/reconcile",
                "/connections",
                "/alerts",
                "/events",
            }
        )
        {
            using var response = await vestige.Http.GetAsync(page, cancellation);
            Assert.True(response.IsSuccessStatusCode, $"{page}: {response.StatusCode}");
        }
    }

    private static async Task<string> CopyAsync(RunningVestige vestige, string statement) =>
        (await vestige.BenchAsync("copy", statement)).Body.GetProperty("rows")[0][0].GetString()!;

    private static string Folder(string name)
    {
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(folder.FullName, "Vestige.slnx")))
        {
            folder = folder.Parent!;
        }

        return Path.Combine(folder.FullName, "tests", "fixtures", "data-folders", name);
    }
}
