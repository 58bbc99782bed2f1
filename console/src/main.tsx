import "bootstrap/dist/css/bootstrap.min.css";
import "@fontsource/atkinson-hyperlegible-next/400.css";
import "@fontsource/atkinson-hyperlegible-next/600.css";
import "@fontsource/atkinson-hyperlegible-mono/400.css";
import "./looks.css";

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode, Suspense, lazy } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";

import { FloorProvider } from "./data/floor";
import { Access } from "./pages/Access";
import { BriefPage } from "./pages/BriefPage";
import { BriefsPage } from "./pages/BriefsPage";
import { WebhookPage } from "./pages/WebhookPage";
import { WebhooksPage } from "./pages/WebhooksPage";
import { ComparedPage } from "./pages/ComparedPage";
import { CoversPage } from "./pages/CoversPage";
import { DraftPage } from "./pages/DraftPage";
import { EntryPage } from "./pages/EntryPage";
import { FlakyPage } from "./pages/FlakyPage";
import { NoticePage } from "./pages/NoticePage";
import { NoticesPage } from "./pages/NoticesPage";
import { NowPage } from "./pages/NowPage";
import { PoolPage } from "./pages/PoolPage";
import { PoolsPage } from "./pages/PoolsPage";
import { QueuePage } from "./pages/QueuePage";
import { ReleasePage } from "./pages/ReleasePage";
import { RunPage } from "./pages/RunPage";
import { RunsPage } from "./pages/RunsPage";
import { SchedulePage } from "./pages/SchedulePage";
import { SchedulesPage } from "./pages/SchedulesPage";
import { ServicePage } from "./pages/ServicePage";
import { StartPage } from "./pages/StartPage";
import { SuitePage } from "./pages/SuitePage";
import { SuitesPage } from "./pages/SuitesPage";
import { UsagePage } from "./pages/UsagePage";
import { WallPage } from "./pages/WallPage";
import { WorkersPage } from "./pages/WorkersPage";
import { Frame, Loading, NothingHere } from "./parts/Frame";

// The docs bring much that no other page needs.
const DocsPage = lazy(() => import("./pages/DocsPage").then((page) => ({ default: page.DocsPage })));

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } } });

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Access>
          <FloorProvider>
            <Frame>
              <Routes>
                <Route path="/" element={<NowPage />} />
                <Route path="/runs" element={<RunsPage />} />
                <Route path="/runs/:suite/:number" element={<RunPage />} />
                <Route path="/runs/:suite/:number/tests/:index" element={<EntryPage />} />
                <Route path="/runs/:suite/:number/compared" element={<ComparedPage />} />
                <Route path="/usage" element={<UsagePage />} />
                <Route path="/covers" element={<CoversPage />} />
                <Route path="/release" element={<ReleasePage />} />
                <Route path="/flaky" element={<FlakyPage />} />
                <Route path="/suites" element={<SuitesPage />} />
                <Route path="/suites/draft" element={<DraftPage />} />
                <Route path="/suites/:suite" element={<SuitePage />} />
                <Route path="/briefs" element={<BriefsPage />} />
                <Route path="/briefs/new" element={<BriefPage key="new" />} />
                <Route path="/briefs/:brief" element={<BriefPage />} />
                <Route path="/schedules" element={<SchedulesPage />} />
                <Route path="/schedules/:schedule" element={<SchedulePage />} />
                <Route path="/webhooks" element={<WebhooksPage />} />
                <Route path="/webhooks/:webhook" element={<WebhookPage />} />
                <Route path="/queue" element={<QueuePage />} />
                <Route path="/notices" element={<NoticesPage />} />
                <Route path="/notices/:notice" element={<NoticePage />} />
                <Route path="/pools" element={<PoolsPage />} />
                <Route path="/pools/:pool" element={<PoolPage />} />
                <Route path="/workers" element={<WorkersPage />} />
                <Route path="/wall" element={<WallPage />} />
                <Route path="/service" element={<ServicePage />} />
                <Route path="/docs" element={<Suspense fallback={<Loading what="the docs" />}><DocsPage /></Suspense>} />
                <Route path="/docs/:name" element={<Suspense fallback={<Loading what="the docs" />}><DocsPage /></Suspense>} />
                <Route path="/start" element={<StartPage />} />
                <Route path="*" element={<NothingHere />} />
              </Routes>
            </Frame>
          </FloorProvider>
        </Access>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
