import { createContext, useContext } from "react";
import { inJob } from "../api";

/** The job that a page is about. */
export const JobContext = createContext(inJob("none"));

/** What the service is asked of that job. */
export const useJob = () => useContext(JobContext);
